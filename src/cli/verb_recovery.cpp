// recovery create.
#include <fcntl.h>
#include <unistd.h>

#include <cerrno>

#include "base/exit_codes.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

// Never over something that is there: it may be the only copy of another key.
void write_new(const std::string& path, const std::string& text, unsigned mode) {
  FileHandle file(open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, mode));
  if (!file && errno == EEXIST)
    throw Error(ErrorKind::usage, printable(path) + " is there already and is not written over",
                "choose another name, or remove it if nothing needs it");
  if (!file) throw system_error("create", path, errno);
  bool good = write_full(file.get(), as_bytes(text)) && fsync(file.get()) == 0;
  int code = errno;
  if (int closed = file.close(); good && closed != 0) {
    good = false;
    code = closed;
  }
  if (good) return;
  unlink(path.c_str());
  throw system_error("write", path, code);
}

int create(const Arguments& arguments, const Environment&) {
  const std::string& path = arguments.words()[0];
  std::string open_path = path + ".pub";
  RecoveryKey key = make_recovery_key();
  write_new(path, recovery_secret_text(key), 0600);
  try {
    write_new(open_path, recovery_public_text(key.open), 0644);
  } catch (...) {
    unlink(path.c_str());
    throw;
  }
  if (arguments.has("json")) {
    out("{}", recovery_document(path, open_path));
    return exit_done;
  }
  out("Wrote the secret part, {}: it opens every set made with it. Move it away from this machine, with a "
      "copy on paper.\n"
      "Wrote the public part, {}: name it in jobs as [protect] recovery-key. It counts from the next chain "
      "on.\n"
      "Open sets with it:  kestrum points SUBJECT --recovery-key {}\n",
      printable(path), printable(open_path), printable(path));
  return exit_done;
}

}  // namespace

Verb recovery_create_verb() {
  return {{"recovery create",
           "FILE",
           "make a recovery key, a second way into archive sets",
           "Writes its secret part to FILE and its public part to FILE.pub. A job that names the public part "
           "makes\n"
           "chains that the secret part opens, whatever becomes of the passphrase.",
           1,
           1,
           {{"json", "", "print the result as JSON"}},
           {"kestrum recovery create /media/office/skerry"}},
          create};
}

}  // namespace kestrum
