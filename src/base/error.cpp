#include "base/error.hpp"

#include <cerrno>
#include <system_error>

#include "base/text.hpp"

namespace kestrum {

Error damage(const std::string& message) {
  return Error(ErrorKind::damage, message);
}

std::string system_reason(int code) {
  return std::generic_category().message(code);
}

Error system_error(const std::string& operation, const std::string& path, int code) {
  ErrorKind kind = code == ENOSPC || code == EDQUOT ? ErrorKind::full : ErrorKind::failed;
  return Error(kind, "cannot " + operation + " " + printable(path) + ": " + system_reason(code))
      .with_code(code);
}

bool is_of_the_system(const Error& error) {
  return error.system_code() != 0 && error.kind() != ErrorKind::damage;
}

bool does_not_read(const Error& error) {
  return error.kind() == ErrorKind::damage || error.system_code() == EIO;
}

}  // namespace kestrum
