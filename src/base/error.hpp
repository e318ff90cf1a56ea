// The one exception type. What concerns a whole command is an Error; what concerns one file is a Problem.
#pragma once

#include <stdexcept>
#include <string>

namespace kestrum {

// Chosen by what the person can do about it; each maps to one exit code (docs/EXIT-CODES.md).
enum class ErrorKind {
  usage,           // the command or the job file is wrong
  failed,          // the run could not do its work
  damage,          // an archive does not read as it was written
  no_destination,  // the destination is not there, or cannot be used
  not_reachable,   // it is there, and does not answer now: the same may work in a while
  busy,            // somebody else is writing
  key,             // no key, or one that does not fit
  wrong_drive,     // another drive than the one the job knows
  full,            // no space
  suspect,         // the guard holds
  stopped,         // by the person
};

class Error : public std::runtime_error {
 public:
  Error(ErrorKind kind, const std::string& message, std::string hint = {})
      : std::runtime_error(message), kind_(kind), hint_(std::move(hint)) {}

  ErrorKind kind() const { return kind_; }
  // What the person can do next; may be empty.
  const std::string& hint() const { return hint_; }
  // Code of the call that failed, errno or the ledger's; 0 when there is none.
  int system_code() const { return system_code_; }
  Error& with_code(int code) {
    system_code_ = code;
    return *this;
  }

 private:
  ErrorKind kind_;
  std::string hint_;
  int system_code_ = 0;
};

Error damage(const std::string& message);

// The system could not do something just now (too many open files, no memory, a read that failed, a drive
// that went away): that says nothing about what lies there, and is never damage.
bool is_of_the_system(const Error& error);
// It does not read, whoever's fault that is: what can be had from elsewhere is worth looking for. A lack of
// this machine's own means is not meant.
bool does_not_read(const Error& error);

// "cannot OPERATION PATH: reason of the system"; full when the reason is a lack of space, else failed.
Error system_error(const std::string& operation, const std::string& path, int code);

// The system's words for an errno.
std::string system_reason(int code);

}  // namespace kestrum
