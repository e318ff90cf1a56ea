#include "engine/passphrase_source.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"

namespace kestrum {

namespace {

// The content of a small file with a secret. `what` is it: "passphrase file".
SecretText read_secret_file(const std::string& path, const std::string& what, const std::string& how) {
  struct stat status {};
  if (stat(path.c_str(), &status) != 0)
    throw Error(ErrorKind::key,
                "cannot read the " + what + " " + printable(path) + ": " + system_reason(errno), how);
  try {
    Bytes content = read_believed_file(path, 4096, S_IROTH | S_IWOTH);
    return SecretText::take(content);
  } catch (const Error& error) {
    throw Error(ErrorKind::key, "the " + what + ": " + error.what(),
                error.hint().empty() ? "run kestrum as the owner of that file" : error.hint());
  }
}

}  // namespace

SecretText secret_line(const std::string& source, const std::string& what) {
  const std::string path = source.substr(std::string_view("file:").size());
  SecretText content = read_secret_file(
      path, what + " file", "create it with the " + what + " on one line, and: chmod 600 " + printable(path));
  std::string_view text = content.view();
  if (text.ends_with('\n')) text.remove_suffix(1);
  if (text.ends_with('\r')) text.remove_suffix(1);
  if (text.empty())
    throw Error(ErrorKind::key, "the " + what + " file " + printable(path) + " is empty",
                "put the " + what + " on its first line");
  return SecretText(text);
}

std::optional<SecretText> get_passphrase(const std::string& source, const std::string& what,
                                         const AskPassphrase& ask) {
  if (!source.starts_with("file:")) {
    if (!ask) return std::nullopt;
    std::optional<SecretText> typed = ask(what);
    if (typed && typed->empty())
      throw Error(ErrorKind::key, "the passphrase is empty", "type one; without it nothing can be opened");
    return typed;
  }
  return secret_line(source, "passphrase");
}

std::string weakness_of(const SecretText& passphrase) {
  constexpr std::ptrdiff_t enough = 12;
  const std::string_view text = passphrase.view();
  const auto letters = std::count_if(text.begin(), text.end(),
                                     [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; });
  if (letters >= enough) return {};
  return "the passphrase has fewer than twelve characters: whoever has the drive can try many a second; "
         "several "
         "words are better, and easy to keep";
}

RecoveryKey read_recovery_secret(const std::string& path) {
  constexpr const char* how = "name the file that 'kestrum recovery create' wrote";
  // What it is comes before who may read it: the public part may be read by everybody.
  if (path.ends_with(".pub")) parse_recovery_secret(as_text(read_small_file(path, 4096)), path);
  return parse_recovery_secret(read_secret_file(path, "recovery key", how).view(), path);
}

RecoveryPublic read_recovery_public(const std::string& path) {
  std::string text;
  try {
    text = as_text(read_small_file(path, 4096));
  } catch (const Error& error) {
    throw Error(ErrorKind::key, error.what(),
                "name the file ending in .pub that 'kestrum recovery create' wrote");
  }
  return parse_recovery_public(text, path);
}

RecoveryKey write_recovery_files(const std::string& path) {
  RecoveryKey key = make_recovery_key();
  create_file(path, as_bytes(recovery_secret_text(key)), 0600);
  try {
    create_file(path + ".pub", as_bytes(recovery_public_text(key.open)), 0644);
  } catch (...) {
    unlink(path.c_str());
    throw;
  }
  return key;
}

}  // namespace kestrum
