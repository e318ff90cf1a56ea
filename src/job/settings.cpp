#include "job/settings.hpp"

#include <algorithm>
#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/key_setters.hpp"
#include "rules/keep_rules.hpp"

namespace kestrum {
namespace {

template <typename Number>
std::optional<Number> number_in(std::string_view text, Number least, Number most) {
  Number number = 0;
  const auto [end, code] = std::from_chars(text.data(), text.data() + text.size(), number);
  if (code != std::errc() || end != text.data() + text.size() || number < least || number > most)
    return std::nullopt;
  return number;
}

// "mail.skerrypoint.example", "127.0.0.1:2525", "[::1]:2525", "sendmail".
void set_server(Settings& settings, const KeyValues& values) {
  std::string_view host = values[0];
  settings.mail.port = 0;
  std::size_t colon = host.rfind(':');
  if (colon != std::string_view::npos && (host.find(':') == colon || host[colon - 1] == ']')) {
    const std::optional<std::uint16_t> port = number_in<std::uint16_t>(host.substr(colon + 1), 1, 65535);
    if (!port)
      refuse_value("'" + printable(values[0]) + "' ends in no port number",
                   "write it like mail.skerrypoint.example:587; the port is a number from 1 to 65535");
    settings.mail.port = *port;
    host = host.substr(0, colon);
  }
  if (host.starts_with('[') && host.ends_with(']')) host = host.substr(1, host.size() - 2);
  const bool good = !host.empty() && std::all_of(host.begin(), host.end(), [](unsigned char c) {
    return std::isalnum(c) != 0 || c == '.' || c == '-' || c == ':' || c == '_';
  });
  if (!good)
    refuse_value("'" + printable(values[0]) + "' is no server's name",
                 "write it like mail.skerrypoint.example, with :587 behind it for another port; or "
                 "\"sendmail\" for the machine's own program");
  settings.mail.server = host;
}

void set_security(Settings& settings, const KeyValues& values) {
  settings.mail.security = static_cast<MailSecurity>(one_of(values[0], {"starttls", "tls", "none"}));
}
void set_login(Settings& settings, const KeyValues& values) {
  settings.mail.login = values[0];
}
void set_password(Settings& settings, const KeyValues& values) {
  const std::string& value = values[0];
  if (!value.starts_with("file:/") || value.size() <= 6)
    refuse_value("this does not say which file the password is in",
                 "write \"file:/etc/kestrum/mail.pass\"; never the password itself");
  settings.mail.password = value;
}
void set_from(Settings& settings, const KeyValues& values) {
  check_mail_address(values[0]);
  settings.mail.from = values[0];
}
void set_to(Settings& settings, const KeyValues& values) {
  for (const std::string& value : values) check_mail_address(value);
  settings.mail.to = values;
}
void set_certificates(Settings& settings, const KeyValues& values) {
  if (!values[0].starts_with('/'))
    refuse_value("the file of certificates must be named by its absolute path",
                 "write it like /etc/kestrum/mail-server.pem");
  settings.mail.certificates = values[0];
}
void set_time_limit(Settings& settings, const KeyValues& values) {
  settings.mail.time_limit = expect_span(values[0]);
}
void set_side_by_side(Settings& settings, const KeyValues& values) {
  const std::optional<unsigned> number = number_in<unsigned>(values[0], 1, 64);
  if (!number)
    refuse_value("'" + printable(values[0]) + "' is no number from 1 to 64", "write it like \"2\"");
  settings.side_by_side = *number;
}
void set_logs(Settings& settings, const KeyValues& values) {
  settings.logs = parse_count_of(values[0], "log");
}
void set_log_age(Settings& settings, const KeyValues& values) {
  settings.log_age = expect_span(values[0]);
}

constexpr bool list = true;
constexpr bool one = false;

constexpr SettingsKey keys[] = {
    {{"mail", "server", one, "SERVER", "none: no mail goes out",
      "that takes the mail: a name, with :PORT behind it for an unusual port, or \"sendmail\" for the "
      "machine's own program"},
     set_server},
    {{"mail", "security", one, "WHAT", "starttls",
      "how the way there is protected: starttls (port 587), tls (port 465), or none (port 25), which is for "
      "servers on this machine only"},
     set_security},
    {{"mail", "login", one, "NAME", "without", "who logs in there"}, set_login},
    {{"mail", "password", one, "SOURCE", "none", "where the password is: file:/path"}, set_password},
    {{"mail", "from", one, "ADDRESS", "the login, or kestrum at this machine", "who the mail is from"},
     set_from},
    {{"mail", "to", list, "ADDRESS", "nobody", "who gets the mail of jobs that name nobody"}, set_to},
    {{"mail", "certificates", one, "FILE", "the machine's",
      "certificates to believe, for a server with one of its own"},
     set_certificates},
    {{"mail", "time-limit", one, "LENGTH", "1 minute", "a server that takes longer than that has failed"},
     set_time_limit},
    {{"runs", "side-by-side", one, "NUMBER", "2", "so many runs at a time, to different drives"},
     set_side_by_side},
    {{"logs", "number", one, "NUMBER", "1000 logs", "so many logs of runs are kept of each job"}, set_logs},
    {{"logs", "age", one, "LENGTH", "1 year", "older ones go; the last 30 of a job stay"}, set_log_age},
};

bool on_this_machine(const std::string& server) {
  return server == "localhost" || server == "::1" || server.starts_with("127.");
}

void check(const Settings& settings) {
  const MailSettings& mail = settings.mail;
  const bool said = !settings.given.empty() &&
                    std::any_of(settings.given.begin(), settings.given.end(),
                                [](const auto& one_key) { return one_key.first.first == "mail"; });
  if (said && mail.server.empty())
    refuse_value("[mail] does not say which server",
                 "kestrum settings set --mail-server mail.skerrypoint.example, or \"sendmail\" for the "
                 "machine's own program");
  if (mail.by_program()) return;
  if (mail.security == MailSecurity::none && !mail.server.empty() && !on_this_machine(mail.server))
    refuse_value("[mail] security is none, and " + printable(mail.server) +
                     " is another machine: everybody on the way could read the mail and the password",
                 "use starttls or tls; none is for servers on this machine");
  if (mail.login.empty() != mail.password.empty())
    refuse_value(
        mail.login.empty() ? "[mail] has a password, and no login" : "[mail] has a login, and no password",
        "give both, or none");
}

}  // namespace

std::uint16_t MailSettings::port_used() const {
  if (port != 0) return port;
  switch (security) {
    case MailSecurity::starttls:
      return 587;
    case MailSecurity::tls:
      return 465;
    case MailSecurity::none:
      return 25;
  }
  return 25;
}

std::string MailSettings::sender(const std::string& machine) const {
  if (!from.empty()) return from;
  if (login.find('@') != std::string::npos) return login;
  std::string host;
  for (unsigned char c : machine)
    host += std::isalnum(c) != 0 || c == '.' || c == '-' ? static_cast<char>(c) : '-';
  return "kestrum@" + (host.empty() ? "localhost" : host);
}

std::span<const SettingsKey> settings_keys() {
  return keys;
}

const FileKeys& settings_file_keys() {
  static const FileKeys all = file_keys_of(settings_keys());
  return all;
}

static void take_key(Settings& settings, const FileKey& key, const KeyValues& values) {
  static_cast<const SettingsKey&>(key).set(settings, values);
}

Settings parse_settings(const std::string& file, const std::string& text) {
  Settings settings;
  settings.file = file;
  settings.text = text;
  settings.given =
      read_key_file(file, text, settings_file_keys(),
                    [&](const FileKey& key, const KeyValues& values) { take_key(settings, key, values); });
  try {
    check(settings);
  } catch (const Error& error) {
    throw Error(ErrorKind::usage, printable(file) + ": " + error.what(), error.hint());
  }
  return settings;
}

std::string edit_settings_text(const std::string& file, const std::string& text,
                               const std::vector<KeyChange>& changes) {
  return edit_keys(
      file, text, changes,
      [](const FileKey& key, const KeyValues& values) {
        Settings scratch;
        take_key(scratch, key, values);
      },
      [&](const std::string& wanted) { return parse_settings(file, wanted).given; });
}

// RFC 5321 allows more; this is what people have.
void check_mail_address(const std::string& address) {
  const std::size_t at = address.find('@');
  const bool good =
      at != std::string::npos && at > 0 && at + 1 < address.size() && address.size() <= 254 &&
      address.find('@', at + 1) == std::string::npos && address[0] != '-' &&
      std::all_of(address.begin(), address.end(), [](unsigned char c) {
        return c > 0x20 && c < 0x7f &&
               std::string_view("<>(),;:\\\"[]").find(static_cast<char>(c)) == std::string_view::npos;
      });
  if (!good)
    refuse_value("'" + printable(address) + "' is no mail address",
                 "write it like office@skerrypoint.example");
}

}  // namespace kestrum
