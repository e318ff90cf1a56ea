#include "tell/mail_way.hpp"

#include <curl/curl.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cstring>
#include <filesystem>
#include <mutex>

#include "base/error.hpp"
#include "base/random.hpp"
#include "base/shell_command.hpp"
#include "base/text.hpp"
#include "engine/passphrase_source.hpp"
#include "tell/mail_message.hpp"

namespace kestrum {
namespace {

struct EndEasy {
  void operator()(CURL* handle) const { curl_easy_cleanup(handle); }
};
struct EndList {
  void operator()(curl_slist* list) const { curl_slist_free_all(list); }
};

std::chrono::seconds seconds_of(const Span& span) {
  const Instant begin{86400 * 365, 0};
  return std::chrono::duration_cast<std::chrono::seconds>(between(begin, after(begin, span)));
}

// One talk with the server.
class Talk {
 public:
  Talk(const MailSettings& settings, const std::string& machine, RunControl& control)
      : settings_(settings), control_(control) {
    static std::once_flag begun;
    std::call_once(begun, [] { curl_global_init(CURL_GLOBAL_DEFAULT); });
    handle_.reset(curl_easy_init());
    if (!handle_) throw Error(ErrorKind::failed, "the connection to the mail server could not be prepared");
    const bool address = settings.server.find(':') != std::string::npos;  // of IPv6
    const std::string host = address ? "[" + settings.server + "]" : settings.server;
    // The name behind the slash is what we call ourselves.
    set(CURLOPT_URL, ((settings.security == MailSecurity::tls ? "smtps://" : "smtp://") + host + ":" +
                      std::to_string(settings.port_used()) + "/" + host_name(machine))
                         .c_str());
    set(CURLOPT_PROTOCOLS_STR, "smtp,smtps");
    set(CURLOPT_PROXY, "");
    set(CURLOPT_NOSIGNAL, 1L);
    set(CURLOPT_USE_SSL,
        static_cast<long>(settings.security == MailSecurity::starttls ? CURLUSESSL_ALL : CURLUSESSL_NONE));
    if (!settings.certificates.empty()) set(CURLOPT_CAINFO, settings.certificates.c_str());
    const auto limit = static_cast<long>(seconds_of(settings.time_limit).count());
    set(CURLOPT_CONNECTTIMEOUT, limit);
    set(CURLOPT_TIMEOUT, limit);
    set(CURLOPT_ERRORBUFFER, reason_);
    set(CURLOPT_HEADERFUNCTION, &Talk::hears);
    set(CURLOPT_HEADERDATA, this);
    set(CURLOPT_WRITEFUNCTION, &Talk::hears);
    set(CURLOPT_WRITEDATA, this);
    set(CURLOPT_NOPROGRESS, 0L);
    set(CURLOPT_XFERINFOFUNCTION, &Talk::goes_on);
    set(CURLOPT_XFERINFODATA, this);
    if (settings.login.empty()) return;
    const SecretText password = secret_line(settings.password, "password");
    set(CURLOPT_USERNAME, settings.login.c_str());
    set(CURLOPT_PASSWORD, std::string(password.view()).c_str());
  }

  MailAnswer send(const std::string& from, const std::string& address, const std::string& message) {
    const std::unique_ptr<curl_slist, EndList> to(curl_slist_append(nullptr, ("<" + address + ">").c_str()));
    set(CURLOPT_MAIL_FROM, ("<" + from + ">").c_str());
    set(CURLOPT_MAIL_RCPT, to.get());
    message_ = message;
    set(CURLOPT_READFUNCTION, &Talk::gives);
    set(CURLOPT_READDATA, this);
    set(CURLOPT_UPLOAD, 1L);
    return perform();
  }

  MailAnswer try_out() {
    set(CURLOPT_CUSTOMREQUEST, "NOOP");
    set(CURLOPT_NOBODY, 1L);
    return perform();
  }

 private:
  template <typename Value>
  void set(CURLoption option, Value value) {
    if (const CURLcode code = curl_easy_setopt(handle_.get(), option, value); code != CURLE_OK)
      throw Error(ErrorKind::failed,
                  std::string("the mail library refuses a setting: ") + curl_easy_strerror(code));
  }

  static std::string host_name(const std::string& machine) {
    std::string name;
    for (unsigned char c : machine)
      name += std::isalnum(c) != 0 || c == '.' || c == '-' ? static_cast<char>(c) : '-';
    return name.empty() ? "localhost" : name;
  }

  static std::size_t hears(char* bytes, std::size_t size, std::size_t count, void* self) {
    Talk& talk = *static_cast<Talk*>(self);
    // A refusal is not forgotten over the good-bye.
    if (!talk.refused()) talk.said_.assign(bytes, std::min<std::size_t>(size * count, 500));
    return size * count;
  }
  static std::size_t gives(char* room, std::size_t size, std::size_t count, void* self) {
    auto& talk = *static_cast<Talk*>(self);
    const std::size_t given = std::min(size * count, talk.message_.size() - talk.given_);
    std::memcpy(room, talk.message_.data() + talk.given_, given);
    talk.given_ += given;
    return given;
  }
  // By a reply of the server's (RFC 5321, section 4.2.1).
  bool refused() const { return said_.starts_with('4') || said_.starts_with('5'); }

  static int goes_on(void* self, curl_off_t, curl_off_t, curl_off_t, curl_off_t) {
    return static_cast<Talk*>(self)->control_.stop_requested() ? 1 : 0;
  }

  MailAnswer perform() {
    const CURLcode code = curl_easy_perform(handle_.get());
    std::string said = printable(std::string(trim(said_)));
    if (code == CURLE_OK) return {said};
    if (code == CURLE_ABORTED_BY_CALLBACK) throw Stopped{};
    const std::string server = printable(settings_.server) + ":" + std::to_string(settings_.port_used());
    const std::string answered = said.empty() ? "" : "; it answered: " + said;
    const std::string detail = *reason_ != '\0' ? reason_ : curl_easy_strerror(code);
    switch (code) {
      case CURLE_COULDNT_RESOLVE_HOST:
        throw Error(ErrorKind::failed, "there is no mail server " + printable(settings_.server),
                    "is the name right, and is the network there? kestrum settings show");
      case CURLE_COULDNT_CONNECT:
        throw Error(ErrorKind::failed, "nobody answers at " + server,
                    "is the server running, and is it that port? kestrum settings show");
      case CURLE_OPERATION_TIMEDOUT:
        throw Error(
            ErrorKind::failed,
            "the mail server " + server + " took longer than " + settings_.time_limit.text() + answered,
            "more time: kestrum settings set --mail-time-limit \"5 minutes\"");
      case CURLE_LOGIN_DENIED:
        throw Error(
            ErrorKind::key,
            "the mail server " + server + " refuses the login of " + printable(settings_.login) + answered,
            "are login and password right? the password is read from " + printable(settings_.password));
      case CURLE_USE_SSL_FAILED:
        throw Error(
            ErrorKind::failed,
            "the mail server " + server + " offers no encryption that it could be asked for" + answered,
            "one that is encrypted from the beginning: kestrum settings set --mail-security tls");
      case CURLE_PEER_FAILED_VERIFICATION:
      case CURLE_SSL_CACERT_BADFILE:
      case CURLE_SSL_CONNECT_ERROR:
        throw Error(ErrorKind::failed, "the mail server " + server + " is not who it should be: " + detail,
                    "one with a certificate of its own: kestrum settings set --mail-certificates FILE");
      case CURLE_SEND_ERROR:
      case CURLE_RECV_ERROR:
        if (refused()) break;
        [[fallthrough]];
      case CURLE_GOT_NOTHING:
      case CURLE_PARTIAL_FILE:
        throw Error(ErrorKind::failed, "the mail server " + server + " broke off" + answered,
                    "it is tried again; look at the server when that lasts");
      default:
        break;
    }
    throw Error(ErrorKind::failed,
                "the mail server " + server + " did not take it: " + (refused() ? said : detail),
                "kestrum settings check tries the server");
  }

  const MailSettings& settings_;
  RunControl& control_;
  std::unique_ptr<CURL, EndEasy> handle_;
  char reason_[CURL_ERROR_SIZE] = {};
  std::string said_;
  std::string message_;
  std::size_t given_ = 0;
};

// Where the machine's own program is: not in everybody's PATH.
constexpr const char* look_there = "PATH=\"$PATH:/usr/sbin:/usr/lib\"; ";

// A file of this process alone, gone at the end.
class MessageFile {
 public:
  explicit MessageFile(const std::string& message)
      : path_(std::filesystem::temp_directory_path().string() + "/kestrum-mail-" + to_hex(random_bytes(8))) {
    create_file(path_, as_bytes(message), 0600);
  }
  ~MessageFile() { unlink(path_.c_str()); }
  MessageFile(const MessageFile&) = delete;
  MessageFile& operator=(const MessageFile&) = delete;
  const std::string& path() const { return path_; }

 private:
  std::string path_;
};

MailAnswer run_program(const std::string& command, const Span& limit, RunControl& control) {
  const std::chrono::seconds seconds = seconds_of(limit);
  const CommandResult result = run_shell(look_there + command, {}, seconds, control);
  if (result.good()) return {printable(std::string(trim(result.output)))};
  throw Error(ErrorKind::failed, "sendmail, this machine's mail program, failed: " + result.reason(seconds),
              "try it by hand, or name a server: kestrum settings set --mail-server SERVER");
}

}  // namespace

MailWay::MailWay(const MailSettings& settings, std::string machine, RunControl& control)
    : settings_(settings), machine_(std::move(machine)), control_(control) {}

MailAnswer MailWay::send(const OutgoingMail& mail, const std::string& address) const {
  if (settings_.by_program()) return by_program(mail, address);
  return Talk(settings_, machine_, control_).send(mail.from, address, mail_message(mail, machine_, true));
}

MailAnswer MailWay::by_program(const OutgoingMail& mail, const std::string& address) const {
  const MessageFile file(mail_message(mail, machine_, false));
  return run_program("sendmail -i -f " + shell_word(mail.from) + " -- " + shell_word(address) + " < " +
                         shell_word(file.path()),
                     settings_.time_limit, control_);
}

MailAnswer MailWay::try_out() const {
  if (settings_.by_program()) return run_program("command -v sendmail", settings_.time_limit, control_);
  return Talk(settings_, machine_, control_).try_out();
}

}  // namespace kestrum
