#include "store/store_error.hpp"

#include <cerrno>

#include "base/text.hpp"

namespace kestrum {
namespace {

bool is_silent(int code) {
  switch (code) {
    case ENODEV:
    case ENXIO:
    case ESTALE:
    case ENOTCONN:
    case ESHUTDOWN:
    case EHOSTDOWN:
    case EHOSTUNREACH:
    case ENETDOWN:
    case ENETUNREACH:
    case ETIMEDOUT:
    case ECONNRESET:
    case ECONNABORTED:
      return true;
    default:
      return false;
  }
}

}  // namespace

Error store_error(const std::string& operation, const std::string& path, int code) {
  std::string message = "cannot " + operation + " " + printable(path) + ": ";
  if (code == EROFS)
    return Error(ErrorKind::no_destination, message + "it is mounted read-only",
                 "mount it writable; a drive with errors is mounted so by the system")
        .with_code(code);
  if (is_silent(code))
    return Error(ErrorKind::not_reachable, message + system_reason(code), "see that it is connected")
        .with_code(code);
  if (code == EXDEV)
    return Error(ErrorKind::failed, message + "another file system is mounted there, within the destination",
                 "unmount it, or name a destination that lies on one drive")
        .with_code(code);
  if (code == ELOOP)
    return Error(ErrorKind::failed,
                 message + "a symbolic link is in its way; none is followed on a destination",
                 "remove the link, or put the folder in its place")
        .with_code(code);
  return system_error(operation, path, code);
}

}  // namespace kestrum
