// recovery create.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/recovery_words.hpp"
#include "cli/verbs.hpp"
#include "engine/recovery_place.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

int create(const Arguments& arguments, const Environment& environment) {
  const std::string& path = arguments.words()[0];
  std::string open_path = path + ".pub";
  if (!arguments.has("same-disk")) {
    if (std::string against = against_secret_at(path, environment.home()); !against.empty())
      throw Error(ErrorKind::usage, printable(path) + " " + against,
                  "name a file on a stick that you take along; if that place is meant, give --same-disk");
  }
  const RecoveryKey key = write_recovery_files(path);
  if (arguments.has("json")) {
    print_document(recovery_document(path, open_path));
    return exit_done;
  }
  out("Wrote the secret part, {}: it opens every set made with it. Move it away from this machine, with a "
      "copy on paper.\n"
      "Wrote the public part, {}: add it to what a job has made and will make:  kestrum recovery add JOB "
      "{}\n"
      "Open sets with it instead of a passphrase:  --recovery-key {}\n",
      printable(path), printable(open_path), shell_word(printable(open_path)), shell_word(printable(path)));
  show_recovery_groups(key, environment);
  return exit_done;
}

}  // namespace

Verb recovery_create_verb() {
  return {{"recovery create",
           "FILE",
           "make a recovery key, a second way into archive sets",
           "Writes its secret part to FILE and its public part to FILE.pub. What a job makes "
           "that has the public part opens with the secret part, whatever becomes of the passphrase.\n"
           "On a terminal the nine groups of the secret part are shown, to be written down. To type them in "
           "again: --recovery-key ask.",
           1,
           1,
           {{"same-disk", "", "the secret part may lie on this machine's own disk, or on a destination"},
            json_option},
           {"kestrum recovery create /media/office/skerry"}},
          create};
}

}  // namespace kestrum
