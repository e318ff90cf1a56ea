// job edit, copy, enable, disable.
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>
#include <iostream>

#include "base/exit_codes.hpp"
#include "base/file_handle.hpp"
#include "base/random.hpp"
#include "base/text.hpp"
#include "cli/job_words.hpp"
#include "cli/print.hpp"
#include "cli/verbs.hpp"
#include "engine/due_desk.hpp"
#include "engine/passphrase_place.hpp"
#include "engine/session.hpp"
#include "job/job_edit.hpp"
#include "ledger/ledger.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

std::vector<KeyChange> changes_of(const Arguments& arguments) {
  std::vector<KeyChange> changes = key_changes(arguments, job_file_keys());
  if (arguments.has("same-disk"))
    changes.push_back({find_job_key("where", "same-disk"), std::vector<std::string>{"accept"}});
  return changes;
}

// A copy to edit, gone at the end unless it is worth keeping.
class EditedCopy {
 public:
  EditedCopy(const Home& home, const std::string& name, const std::string& text)
      : path_(home.scratch_folder() + "/" + name + "-" + to_hex(random_bytes(4)) + ".toml") {
    replace_file(path_, as_bytes(text), 0600);
  }
  ~EditedCopy() {
    if (!kept_) unlink(path_.c_str());
  }
  const std::string& path() const { return path_; }
  std::string text() const { return std::string(as_text(read_small_file(path_, 1u << 20))); }
  void keep() { kept_ = true; }

 private:
  std::string path_;
  bool kept_ = false;
};

void open_editor(const std::string& path) {
  const char* editor = std::getenv("VISUAL");
  if (editor == nullptr || *editor == '\0') editor = std::getenv("EDITOR");
  if (editor == nullptr || *editor == '\0') editor = "editor";
  std::fflush(stdout);
  pid_t child = fork();
  if (child == 0) {
    std::string command = std::string(editor) + " \"$1\"";
    execl("/bin/sh", "sh", "-c", command.c_str(), "sh", path.c_str(), nullptr);
    _exit(127);
  }
  int status = 0;
  if (child < 0 || waitpid(child, &status, 0) != child || !WIFEXITED(status) || WEXITSTATUS(status) != 0)
    throw Error(ErrorKind::failed,
                "the editor '" + printable(editor) + "' did not end well; nothing was changed",
                "set EDITOR to an editor that is there, or give options: kestrum help job edit");
}

bool edit_again() {
  if (isatty(STDIN_FILENO) != 1) return false;
  err("Edit it again? [Y/n] ");
  std::string line;
  return std::getline(std::cin, line) && (line.empty() || line[0] == 'y' || line[0] == 'Y');
}

// The text that the person leaves in the editor, once it is a valid job.
std::string text_from_editor(const Home& home, const Job& job) {
  EditedCopy copy(home, job.name, job.text);
  while (true) {
    open_editor(copy.path());
    std::string text = copy.text();
    try {
      parse_job(job.name, copy.path(), text);
      return text;
    } catch (const Error& error) {
      err("kestrum: {}\n  {}\n", error.what(), error.hint());
      if (edit_again()) continue;
      copy.keep();
      throw Error(ErrorKind::usage, "the job is as it was; what you wrote is no valid job",
                  "your version is kept in " + printable(copy.path()));
    }
  }
}

// Takes the new text over and says what it means.
int save(const Job& before, const std::string& text, const Arguments& arguments,
         const Environment& environment) {
  const Home& home = environment.home();
  Job after = parse_job(before.name, before.file, text);
  std::vector<std::string> meaning;
  if (!before.given.empty()) meaning = edit_meaning(before, after);
  if (before.passphrase != after.passphrase || before.destinations != after.destinations)
    refuse_passphrase_at_destination(after);
  DestinationView view = view_destination(after, environment.people(), environment.clock().now());
  // A file that did not read before tells nothing of a move, and the drive goes on proving who it is.
  bool moved = !before.destinations.empty() && before.destinations != after.destinations;
  if (moved && !after.same_disk && !view.shared.empty()) refuse_shared_disk(view.shared);
  if (text != before.text) home.change_job(before.name, before.text, text);
  count_times(home, after, environment.clock().now());
  if (arguments.has("json")) {
    print_document(edited_document(home.load_job(before.name), meaning));
  } else if (text == before.text) {
    out("Nothing was changed in {}.\n", printable(before.name));
  } else {
    out("{} is changed.\n", printable(before.name));
    for (const std::string& line : meaning) out("  {}\n", line);
    if (meaning.empty()) out("  It says the same as before: nothing will be different.\n");
  }
  print_warnings(after, view);
  for (const std::string& line : refused_passphrases(home, after, open_local_store)) err("note: {}\n", line);
  return exit_done;
}

// One whose file does not read can be mended in the editor: then only name, file and text are there.
Job job_to_edit(const Home& home, const std::string& name, bool with_options) {
  try {
    return home.load_job(name);
  } catch (const Error& error) {
    if (with_options || !home.has_job(name)) throw;
    err("kestrum: {}\n", error.what());
    Job broken;
    broken.name = name;
    broken.file = home.job_path(name);
    broken.text = as_text(read_small_file(broken.file, 1u << 20));
    return broken;
  }
}

int edit(const Arguments& arguments, const Environment& environment) {
  std::vector<KeyChange> changes = changes_of(arguments);
  Job job = job_to_edit(environment.home(), arguments.words()[0], !changes.empty());
  std::string text = changes.empty() ? text_from_editor(environment.home(), job)
                                     : edit_job_text(job.name, job.file, job.text, changes);
  return save(job, text, arguments, environment);
}

int copy(const Arguments& arguments, const Environment& environment) {
  const std::string& from = arguments.words()[0];
  const std::string& to = arguments.words()[1];
  Job job = environment.home().load_job(from);
  parse_job(to, environment.home().job_path(to), job.text);
  environment.home().create_job(to, job.text);
  count_times(environment.home(), environment.home().load_job(to), environment.clock().now());
  if (arguments.has("json")) {
    print_document(job_document(environment.home().load_job(to)));
  } else {
    out("{} is a copy of {} now, with sets of its own: its first run writes a full one. Change it with: "
        "kestrum job edit {}\n",
        printable(to), printable(from), shell_word(to));
  }
  return exit_done;
}

int rename(const Arguments& arguments, const Environment& environment) {
  const std::string& from = arguments.words()[0];
  const std::string& to = arguments.words()[1];
  const Home& home = environment.home();
  home.rename_job(from, to);
  std::string trouble;
  try {
    Ledger(home.ledger_path()).rename_job(from, to);
  } catch (const Error& error) {
    trouble = error.what();
  }
  if (arguments.has("json")) {
    print_document(job_document(home.load_job(to)));
  } else {
    out("{} is called {} now. Its sets stay as they are, and the next run goes on with them.\n",
        printable(from), printable(to));
  }
  if (trouble.empty()) return exit_done;
  err("kestrum: its history stays under the old name: {}\n", trouble);
  return exit_problems;
}

int switch_job(const Arguments& arguments, const Environment& environment, bool on) {
  Job job = environment.home().load_job(arguments.words()[0]);
  const JobKey* key = find_job_key("when", "enabled");
  KeyChange change{key, on ? std::optional<std::vector<std::string>>() : std::vector<std::string>{"no"}};
  std::string text = job.enabled == on ? job.text : edit_job_text(job.name, job.file, job.text, {change});
  if (text != job.text) environment.home().change_job(job.name, job.text, text);
  count_times(environment.home(), environment.home().load_job(job.name), environment.clock().now());
  if (arguments.has("json")) {
    print_document(job_document(environment.home().load_job(job.name)));
  } else if (job.enabled == on) {
    out("{} is {} already.\n", printable(job.name), on ? "enabled" : "disabled");
  } else if (on) {
    out("{} is enabled: it runs by itself and with --all again.\n", printable(job.name));
  } else {
    out("{} is disabled: it runs only when it is asked for by name. Its sets stay as they are.\n",
        printable(job.name));
  }
  return exit_done;
}

int enable(const Arguments& arguments, const Environment& environment) {
  return switch_job(arguments, environment, true);
}
int disable(const Arguments& arguments, const Environment& environment) {
  return switch_job(arguments, environment, false);
}

}  // namespace

Verb job_edit_verb() {
  VerbSpec spec{"job edit", "NAME", "change a job", "", 1, 1, key_options(job_file_keys()), {}};
  spec.options.push_back(usual_option);
  spec.options.push_back({"same-disk", "", "the destination may lie on the disk of the files themselves"});
  spec.options.push_back(json_option);
  spec.details =
      "Without options the job file is opened in $VISUAL or $EDITOR, on a copy, which is taken over only "
      "when it is\n"
      "valid. With options just those keys are changed where they stand; comments and order stay as they "
      "are. A\n"
      "list is replaced by the values given.";
  spec.examples = {"kestrum job edit wardens",
                   "kestrum job edit wardens --how-compression small --keep-age \"90 days\"",
                   "kestrum job edit wardens --usual what-skip"};
  return {spec, edit};
}
Verb job_copy_verb() {
  return {{"job copy",
           "NAME NEW",
           "make another job from one",
           "",
           2,
           2,
           {json_option},
           {"kestrum job copy wardens visitors"}},
          copy};
}
Verb job_rename_verb() {
  return {{"job rename",
           "NAME NEW",
           "give a job another name; its sets stay its own",
           "History and sets go with it. Whatever else calls the job by its name, such as the system's own "
           "scheduler, must be changed by hand.",
           2,
           2,
           {json_option},
           {"kestrum job rename wardens ringers"}},
          rename};
}
Verb job_enable_verb() {
  return {{"job enable",
           "NAME",
           "let a job run by itself again",
           "",
           1,
           1,
           {json_option},
           {"kestrum job enable wardens"}},
          enable};
}
Verb job_disable_verb() {
  return {{"job disable",
           "NAME",
           "keep a job from running by itself",
           "",
           1,
           1,
           {json_option},
           {"kestrum job disable wardens"}},
          disable};
}

}  // namespace kestrum
