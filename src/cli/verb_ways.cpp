// passphrase change, add, remove, test; recovery add, remove.
#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/recovery_words.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/way_proof.hpp"
#include "engine/ways_in.hpp"
#include "tell/ways_documents.hpp"

namespace kestrum {
namespace {

const OptionSpec quiet_option{"quiet", "", "no progress"};
constexpr const char* source_words = "file:/path, or ask";

std::string source_of(const Arguments& arguments, const std::string& option, const std::string& usual) {
  std::string source = arguments.value(option).value_or(usual);
  if (source.empty() || source == "ask" || source.starts_with("file:/")) return source;
  throw Error(ErrorKind::usage, "--" + option + " does not say where the passphrase comes from",
              "write file:/path, or ask; never the passphrase itself");
}

// What was done on each drive, and what is left to do.
int tell(const std::string& job, const WaysOutcome& outcome, const Arguments& arguments,
         const std::string& away_advice) {
  const int code = outcome.away.empty() ? exit_done : exit_problems;
  if (arguments.has("json")) {
    print_document(ways_document(job, outcome));
    return code;
  }
  for (const WaysOnDrive& drive : outcome.drives) {
    std::string text = printable(drive.drive) + ": ";
    text += drive.changed == 0
                ? "nothing was to be changed at " + count_text(drive.points, "point")
                : "changed at " + std::to_string(drive.changed) + " of " + count_text(drive.points, "point");
    if (drive.unfinished) text += ", and at the one that is not finished";
    out("{}.\n", text);
    if (drive.closed > 0)
      out("  {} of an earlier passphrase stay as they are.\n", count_text(drive.closed, "point"));
  }
  for (const std::string& away : outcome.away)
    out("{} is not there; its sets open as before. When it is connected: {}\n", printable(away), away_advice);
  if (outcome.job_changed)
    out("The job's file was changed: kestrum job show {}\n", shell_word(printable(job)));
  return code;
}

// A way that was taken away still opens what was copied before.
void tell_of_copies(const std::string& job, const WaysOutcome& outcome, const Arguments& arguments) {
  if (arguments.has("json") || outcome.changed() == 0) return;
  out("Copies of these sets that were made before open as they did. If somebody knows the way in who should "
      "not, begin a chain with a new key as well: kestrum run {} --kind full\n",
      shell_word(printable(job)));
}

struct WaysRun {
  WaysRun(const Arguments& arguments, const Environment& environment)
      : progress(environment, arguments.has("quiet")), context(run_context(environment, progress)) {
    context.break_lock = arguments.has("break-lock");
  }
  Progress progress;
  StopsItself stops_itself;
  RunContext context;
};

int change(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  PassphraseChange wanted;
  wanted.old_source = source_of(arguments, "old", "");
  wanted.new_source = source_of(arguments, "new", "");
  if (const std::optional<std::string> file = arguments.value("recovery-key")) {
    if (arguments.has("old"))
      throw Error(ErrorKind::usage, "--old and --recovery-key are two ways in", "give one of them");
    wanted.old_key = *file == "ask" ? ask_recovery_key(environment) : read_recovery_secret(*file);
  }
  WaysRun run(arguments, environment);
  const WaysOutcome outcome = change_passphrase(job, wanted, run.context);
  run.progress.finish();
  const int code = tell(job, outcome, arguments,
                        "kestrum passphrase change " + shell_word(printable(job)) +
                            " --old SOURCE, with the passphrase of before");
  tell_of_copies(job, outcome, arguments);
  return code;
}

int add(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  WaysRun run(arguments, environment);
  const WaysOutcome outcome = add_passphrase(job, source_of(arguments, "new", "ask"), run.context);
  run.progress.finish();
  return tell(job, outcome, arguments, "the same again");
}

int remove(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  WaysRun run(arguments, environment);
  const WaysOutcome outcome = remove_passphrase(job, source_of(arguments, "old", "ask"), run.context);
  run.progress.finish();
  const int code = tell(job, outcome, arguments, "the same again");
  tell_of_copies(job, outcome, arguments);
  return code;
}

// The job's file names it by its full path.
std::string full_path(const std::string& file) {
  return std::filesystem::absolute(file).lexically_normal().string();
}

int recovery_add(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  WaysRun run(arguments, environment);
  const WaysOutcome outcome = add_recovery_key(job, full_path(arguments.words()[1]), run.context);
  run.progress.finish();
  const int code = tell(job, outcome, arguments, "the same again");
  if (!arguments.has("json"))
    out("Try it before it is needed: kestrum passphrase test {} --recovery-key FILE, with its secret part\n",
        shell_word(printable(job)));
  return code;
}

int recovery_remove(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  WaysRun run(arguments, environment);
  const WaysOutcome outcome = remove_recovery_key(job, full_path(arguments.words()[1]), run.context);
  run.progress.finish();
  const int code = tell(job, outcome, arguments, "the same again");
  tell_of_copies(job, outcome, arguments);
  return code;
}

void print_test(const WayTest& test, const std::string& way) {
  const std::string drive = printable(test.drive);
  if (!test.encrypted) return out("{}: nothing there is encrypted: everybody is in.\n", drive);
  if (test.chains.empty())
    return out("{}: no encrypted point is there yet, so nothing could be tried.\n", drive);
  std::uint64_t points = 0, opened = 0, unfinished = 0;
  for (const WayTest::Chain& chain : test.chains) {
    points += chain.points;
    opened += chain.opened;
    unfinished += chain.unfinished ? 1 : 0;
  }
  out("{}: {} opens {}{} in {}{}.\n", drive, way,
      opened == points ? "all of " : std::to_string(opened) + " of ", count_text(points, "point"),
      count_text(test.chains.size(), "chain"),
      unfinished > 0 ? "; one of the points is not finished yet" : "");
  for (const WayTest::Chain& chain : test.chains) {
    if (chain.trouble.empty()) continue;
    out("  {}: {}\n",
        chain.first == chain.last
            ? "point " + std::to_string(chain.first) + (chain.unfinished ? ", not finished" : "")
            : "points " + std::to_string(chain.first) + " to " + std::to_string(chain.last),
        chain.trouble);
  }
}

// What the job itself would use anyway proves nothing of what a person has.
bool by_a_person(const Arguments& arguments, const LookSession& session) {
  return arguments.has("recovery-key") || arguments.has("passphrase") || !session.job() ||
         session.job()->passphrase == "ask";
}

// True when it is remembered.
bool remember(const Arguments& arguments, const Environment& environment, const LookSession& session,
              const std::optional<RecoveryPublic>& recovery, const WayTest& test) {
  const std::optional<DriveIdentity>& drive = session.destination().drive;
  if (!test.encrypted || !test.everything() || !drive || !session.job() || !by_a_person(arguments, session))
    return false;
  keep_way_proof(environment.home(), session.job()->name, {drive->id, recovery, environment.clock().now()});
  return true;
}

int test(const Arguments& arguments, const Environment& environment) {
  const std::string& subject = arguments.words()[0];
  std::vector<LookSession> sessions = open_subjects(arguments, environment, subject);
  const bool recovery = arguments.has("recovery-key");
  std::vector<WayTest> tests;
  bool all = true, remembered = false, own = false;
  for (LookSession& session : sessions) {
    tests.push_back(test_way(session));
    all = all && tests.back().everything();
    own = own || (tests.back().encrypted && !by_a_person(arguments, session));
    const std::optional<RecoveryPublic> part =
        recovery ? std::optional(session.keys().recovery_key()->open) : std::nullopt;
    remembered = remember(arguments, environment, session, part, tests.back()) || remembered;
  }
  if (arguments.has("json")) {
    print_document(way_test_document(subject, tests, recovery));
  } else {
    for (const WayTest& one : tests) print_test(one, recovery ? "this recovery key" : "this passphrase");
    if (remembered) out("kestrum status tells how long ago that was tried.\n");
    if (own)
      out("That was the passphrase where the job looks for it. To try the one that you keep elsewhere: "
          "kestrum "
          "passphrase test {} --passphrase ask\n",
          shell_word(printable(subject)));
  }
  return all ? exit_done : exit_code_of(ErrorKind::key);
}

const OptionSpec new_option{"new", "SOURCE", std::string("where the new one comes from: ") + source_words};
const OptionSpec old_option{"old", "SOURCE",
                            std::string("where the one of before comes from: ") + source_words};

}  // namespace

Verb passphrase_change_verb() {
  return {
      {"passphrase change",
       "JOB",
       "another passphrase for everything that a job has made",
       "Every set on every drive that is connected gets the new one; when all have it, the job's file "
       "names it, and then the old one goes. Broken off in between, the old one still opens what it opened "
       "before, and saying the same again completes it.\n"
       "A lost passphrase: --recovery-key FILE opens the sets instead, and all passphrases of before go.",
       1,
       1,
       {new_option,
        old_option,
        {"recovery-key", "FILE", "open the sets with this recovery key; ask: type it in, from paper"},
        break_lock_option,
        quiet_option,
        json_option},
       {"kestrum passphrase change wardens --new file:/etc/kestrum/wardens-2.pass",
        "kestrum passphrase change wardens --old file:/root/old.pass",
        "kestrum passphrase change wardens --recovery-key /media/office/skerry --new "
        "file:/etc/kestrum/wardens-2.pass"}},
      change};
}

Verb passphrase_add_verb() {
  return {
      {"passphrase add",
       "JOB",
       "a second passphrase beside the job's own",
       "It opens what is on the drives that are connected, and what joins those chains. A chain that begins "
       "later opens with the job's own only; the run says so.",
       1,
       1,
       {new_option, break_lock_option, quiet_option, json_option},
       {"kestrum passphrase add wardens"}},
      add};
}

Verb passphrase_remove_verb() {
  return {{"passphrase remove",
           "JOB",
           "take away a passphrase that was added",
           "",
           1,
           1,
           {old_option, break_lock_option, quiet_option, json_option},
           {"kestrum passphrase remove wardens"}},
          remove};
}

Verb passphrase_test_verb() {
  return {
      {"passphrase test",
       "SUBJECT",
       "prove that a way in opens a drive, before it is needed",
       "Opens the seal of every point there, and the list of files of the newest of each chain. Try what you "
       "keep elsewhere: the passphrase that you know, or the recovery key. status tells how old that proof "
       "is.",
       1,
       1,
       subject_options(),
       {"kestrum passphrase test wardens --passphrase ask",
        "kestrum passphrase test /media/tern-1 --recovery-key /media/office/skerry"}},
      test};
}

Verb recovery_add_verb() {
  return {{"recovery add",
           "JOB FILE.pub",
           "let a recovery key open what a job has made and will make",
           "Its public part is enough. It goes into every set on the drives that are connected, and into the "
           "job's file.",
           2,
           2,
           {break_lock_option, quiet_option, json_option},
           {"kestrum recovery add wardens /etc/kestrum/office.pub"}},
          recovery_add};
}

Verb recovery_remove_verb() {
  return {{"recovery remove",
           "JOB FILE.pub",
           "take a recovery key out of what a job has made, and out of the job",
           "",
           2,
           2,
           {break_lock_option, quiet_option, json_option},
           {"kestrum recovery remove wardens /etc/kestrum/office.pub"}},
          recovery_remove};
}

}  // namespace kestrum
