// What holds for the machine, not for a job: settings.toml beside the jobs.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <vector>

#include "calendar/span.hpp"
#include "job/key_edit.hpp"

namespace kestrum {

// How mail to the server is protected: a plain connection that becomes encrypted (RFC 3207), one that is from
// the beginning (RFC 8314), or none, which is for servers on this very machine.
enum class MailSecurity { starttls, tls, none };

struct MailSettings {
  static constexpr const char* own_program = "sendmail";  // `server`: the machine's own
  std::string server;                                     // name or address; empty: no mail goes out
  std::uint16_t port = 0;                                 // 0: what is usual for the security
  MailSecurity security = MailSecurity::starttls;
  std::string login;            // empty: without
  std::string password;         // "file:/path"
  std::string from;             // empty: see sender()
  std::vector<std::string> to;  // of jobs that name nobody
  std::string certificates;     // file of those to believe; empty: the machine's
  Span time_limit{1, Span::Unit::minute};

  bool by_program() const { return server == own_program; }
  std::uint16_t port_used() const;
  // `machine`: its name.
  std::string sender(const std::string& machine) const;
};

struct Settings {
  std::string file, text;  // empty text: there is no such file
  GivenValues given;       // as it was said
  MailSettings mail;
  unsigned side_by_side = 2;  // runs at a time, to different drives; at least 1
  std::uint64_t logs = 1000;  // of each job, the newest
  Span log_age{1, Span::Unit::year};
};

struct SettingsKey : FileKey {
  void (*set)(Settings& settings, const KeyValues& values);  // as TakeKey
};
std::span<const SettingsKey> settings_keys();
const FileKeys& settings_file_keys();  // the same

// Throws Error of kind usage, also for what does not go together.
Settings parse_settings(const std::string& file, const std::string& text);
// edit_keys() of such a file.
std::string edit_settings_text(const std::string& file, const std::string& text,
                               const std::vector<KeyChange>& changes);

// An address that mail goes to, as people have them. Throws Error of kind usage.
void check_mail_address(const std::string& address);

}  // namespace kestrum
