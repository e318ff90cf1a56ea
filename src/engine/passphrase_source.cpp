#include "engine/passphrase_source.hpp"

#include <sys/stat.h>

#include <cerrno>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"

namespace kestrum {

std::optional<std::string> get_passphrase(const std::string& source, const std::string& what,
                                          const AskPassphrase& ask) {
  if (!source.starts_with("file:")) {
    if (!ask) return std::nullopt;
    std::optional<std::string> typed = ask(what);
    if (typed && typed->empty())
      throw Error(ErrorKind::key, "the passphrase is empty", "type one; without it nothing can be opened");
    return typed;
  }
  std::string path = source.substr(5);
  struct stat status {};
  if (stat(path.c_str(), &status) != 0) {
    throw Error(ErrorKind::key,
                "cannot read the passphrase file " + printable(path) + ": " + system_reason(errno),
                "create it with the passphrase on one line, and: chmod 600 " + printable(path));
  }
  if ((status.st_mode & (S_IROTH | S_IWOTH)) != 0) {
    throw Error(ErrorKind::key,
                "the passphrase file " + printable(path) + " may be read by everybody on this machine",
                "close it with: chmod 600 " + printable(path));
  }
  std::string text;
  try {
    text = as_text(read_small_file(path, 4096));
  } catch (const Error& error) {
    throw Error(ErrorKind::key, error.what(), "run kestrum as the owner of that file");
  }
  if (text.ends_with('\n')) text.pop_back();
  if (text.ends_with('\r')) text.pop_back();
  if (text.empty())
    throw Error(ErrorKind::key, "the passphrase file " + printable(path) + " is empty",
                "put the passphrase on its first line");
  return text;
}

}  // namespace kestrum
