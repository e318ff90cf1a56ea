// The program: finds the verb, runs it, turns errors into a message and an exit code.
#include <fmt/format.h>
#include <malloc.h>
#include <sys/prctl.h>
#include <sys/resource.h>

#include <algorithm>
#include <cerrno>
#include <clocale>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/help_topics.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {

std::vector<Verb> all_verbs() {
  return {job_define_verb(),
          job_list_verb(),
          job_show_verb(),
          job_check_verb(),
          job_edit_verb(),
          job_copy_verb(),
          job_rename_verb(),
          job_enable_verb(),
          job_disable_verb(),
          job_remove_verb(),
          job_rebuild_verb(),
          preview_verb(),
          run_verb(),
          pause_verb(),
          continue_verb(),
          stop_verb(),
          points_verb(),
          browse_verb(),
          find_verb(),
          versions_verb(),
          compare_verb(),
          open_verb(),
          restore_verb(),
          verify_verb(),
          repair_verb(),
          drill_verb(),
          prune_verb(),
          fold_verb(),
          keep_verb(),
          drop_verb(),
          forecast_verb(),
          schedule_verb(),
          agent_verb(),
          agent_install_verb(),
          agent_remove_verb(),
          status_verb(),
          history_verb(),
          guard_verb(),
          passphrase_change_verb(),
          passphrase_add_verb(),
          passphrase_remove_verb(),
          passphrase_test_verb(),
          recovery_create_verb(),
          recovery_add_verb(),
          recovery_remove_verb(),
          settings_show_verb(),
          settings_check_verb(),
          settings_set_verb(),
          tell_verb(),
          report_verb(),
          stay_verb()};
}

namespace {

// Also where nothing tells the width, lines stay short enough to read.
void show_help(const std::string& text) {
  constexpr std::size_t readable = 100;
  write_lines(stdout, wrapped(out_screen().utf8 ? text : in_ascii(text),
                              out_screen().width != 0 ? out_screen().width : readable));
}

bool is_group(const std::vector<Verb>& verbs, const std::string& word) {
  // One that is a verb itself has a help of its own.
  const bool verb_itself =
      std::any_of(verbs.begin(), verbs.end(), [&](const Verb& verb) { return verb.spec.name == word; });
  return !verb_itself && std::any_of(verbs.begin(), verbs.end(), [&](const Verb& verb) {
    return verb.spec.name.starts_with(word + " ");
  });
}

// `group`: only the verbs that begin so.
std::string overview(const std::vector<Verb>& all, const std::string& group = {}) {
  std::vector<Verb> verbs;
  for (const Verb& verb : all) {
    if (verb.spec.name.starts_with(group)) verbs.push_back(verb);
  }
  std::string out =
      group.empty()
          ? "kestrum VERB [WORDS] [OPTIONS]\nKeeps copies of files in archive sets on another drive, and "
            "brings them back.\n\n"
          : "";
  std::size_t width = 0;
  auto left = [](const Verb& verb) {
    return verb.spec.name + (verb.spec.words.empty() ? "" : " " + verb.spec.words);
  };
  for (const Verb& verb : verbs) width = std::max(width, left(verb).size());
  for (const Verb& verb : verbs) {
    std::string column = left(verb);
    out += "  " + column + std::string(width - column.size() + 2, ' ') + verb.spec.summary + "\n";
  }
  if (!group.empty()) return out + "\nMore on each: kestrum help " + group + "WORD\n";
  return out + "\nMore on each: kestrum help VERB; on words of job files: kestrum help " +
         join(help_topics(), ", ") + "\n";
}

// The longest that fits: "agent install" before "agent".
const Verb* find_verb_named(const std::vector<Verb>& verbs, const std::vector<std::string>& words,
                            std::size_t& used) {
  const Verb* found = nullptr;
  for (const Verb& verb : verbs) {
    const std::vector<std::string> name = split(verb.spec.name, ' ');
    if (words.size() < name.size() || !std::equal(name.begin(), name.end(), words.begin())) continue;
    if (found != nullptr && name.size() < used) continue;
    used = name.size();
    found = &verb;
  }
  return found;
}

[[noreturn]] void unknown_verb(const std::vector<Verb>& verbs, const std::vector<std::string>& words) {
  std::vector<std::string> names;
  for (const Verb& verb : verbs) names.push_back(verb.spec.name);
  std::string typed = words[0];
  const bool group = is_group(verbs, typed);
  if (group && words.size() > 1 && !words[1].starts_with('-')) typed += " " + words[1];
  std::optional<std::string> near = nearest(typed, names);
  if (group && words.size() == 1) {
    std::vector<std::string> seconds;
    for (const std::string& name : names) {
      if (name.starts_with(typed + " ")) seconds.push_back(name.substr(typed.size() + 1));
    }
    throw Error(ErrorKind::usage, "'" + typed + "' needs a second word", typed + " " + join(seconds, ", "));
  }
  throw Error(ErrorKind::usage, "there is no verb '" + printable(typed) + "'",
              near ? "did you mean '" + *near + "'?" : "see: kestrum help");
}

int dispatch(const std::vector<std::string>& words) {
  std::vector<Verb> verbs = all_verbs();
  if (words.empty() || words[0] == "--help" || words[0] == "-h" ||
      (words[0] == "help" && words.size() == 1)) {
    show_help(overview(verbs));
    return words.empty() ? exit_code_of(ErrorKind::usage) : exit_done;
  }
  if (words[0] == "--version") {
    if (words.size() == 2 && words[1] == "--json") {
      print_document(version_document(KESTRUM_VERSION));
      return exit_done;
    }
    out("kestrum {} (archive format 1)\n", KESTRUM_VERSION);
    return exit_done;
  }
  bool help = words[0] == "help";
  std::vector<std::string> rest(words.begin() + (help ? 1 : 0), words.end());
  if (std::optional<std::string> topic = help && rest.size() == 1 ? help_topic(rest[0]) : std::nullopt) {
    show_help(*topic);
    return exit_done;
  }
  if (help && rest.size() == 1 && is_group(verbs, rest[0])) {
    show_help(overview(verbs, rest[0] + " "));
    return exit_done;
  }
  std::size_t used = 0;
  verbs.push_back(suggest_verb());  // hidden
  verbs.push_back(agent_run_verb());
  verbs.push_back(agent_check_verb());
  verbs.push_back(agent_drill_verb());
  verbs.push_back(agent_tell_verb());
  const Verb* verb = find_verb_named(verbs, rest, used);
  if (verb == nullptr) unknown_verb(verbs, rest);
  rest.erase(rest.begin(), rest.begin() + static_cast<std::ptrdiff_t>(used));
  Arguments arguments(verb->spec, help ? std::vector<std::string>{"--help"} : rest);
  if (arguments.help()) {
    show_help(help_text(verb->spec));
    return exit_done;
  }
  Environment environment;
  return verb->run(arguments, environment);
}

int tell_error(const Error& error, bool json) {
  int code = exit_code_of(error.kind());
  if (json) print_document(error_document(error, code));
  err("kestrum: {}\n", error.what());
  if (!error.hint().empty()) err("  {}\n", error.hint());
  return code;
}

}  // namespace
}  // namespace kestrum

// As many open files as this user may have, and nothing of passphrases and keys in a memory dump.
static void set_limits() {
  rlimit files{};
  if (getrlimit(RLIMIT_NOFILE, &files) == 0) {
    constexpr rlim_t enough = 65536;
    files.rlim_cur = std::max(files.rlim_cur, std::min(files.rlim_max, enough));
    setrlimit(RLIMIT_NOFILE, &files);
  }
  const rlimit none{0, 0};
  setrlimit(RLIMIT_CORE, &none);
#ifndef __SANITIZE_ADDRESS__  // whose search for leaks looks into this process from outside
  prctl(PR_SET_DUMPABLE, 0);  // also where the system hands dumps to a program, which heeds no limit
#endif
}

int main(int argc, char** argv) {
  using namespace kestrum;
  set_limits();
  look_at_screens();
  std::setlocale(LC_CTYPE, "C.UTF-8");
  // Frames are buffers of some MiB that pass between threads. Given back to the system at once instead of
  // kept in each thread's arena, they bring the peak of a full over 70,000 files from 169 to 90 MiB, at no
  // cost that could be measured.
  mallopt(M_MMAP_THRESHOLD, 1 << 20);
  mallopt(M_ARENA_MAX, 2);
  catch_stop_signals();
  std::vector<std::string> words(argv + 1, argv + argc);
  bool json = std::find(words.begin(), words.end(), "--json") != words.end();
  int code = exit_done;
  try {
    code = dispatch(words);
  } catch (const Stopped& stopped) {
    code = tell_error(stopped_error(stopped), json);
  } catch (const Error& error) {
    code = tell_error(error, json);
  } catch (const std::bad_alloc&) {
    code = tell_error(
        Error(ErrorKind::failed, "there was not enough memory", "close other programs and try again"), json);
  } catch (const std::exception& error) {
    code = tell_error(
        Error(ErrorKind::failed, std::string("unexpected: ") + error.what(), "please report this"), json);
  }
  errno = 0;
  const bool written = std::fflush(stdout) == 0 && std::ferror(stdout) == 0;
  // Who reads only the first lines has what he wanted.
  const bool gone = out_screen().gone || errno == EPIPE;
  if (!written && !gone && code == exit_done) {
    err("kestrum: the output could not be written\n");
    return exit_code_of(ErrorKind::failed);
  }
  return code;
}
