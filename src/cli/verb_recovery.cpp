// recovery create.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

int create(const Arguments& arguments, const Environment&) {
  const std::string& path = arguments.words()[0];
  std::string open_path = path + ".pub";
  write_recovery_files(path);
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
           {json_option},
           {"kestrum recovery create /media/office/skerry"}},
          create};
}

}  // namespace kestrum
