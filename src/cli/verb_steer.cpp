// pause, continue and stop.
#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "calendar/span.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/leftover_use.hpp"
#include "engine/steering.hpp"
#include "ledger/ledger.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

// Runs of the job that go on now.
std::vector<RunEntry> runs_of(const Environment& environment, const std::string& job) {
  std::vector<RunEntry> runs = Ledger(environment.home().ledger_path()).unended_runs();
  std::erase_if(runs, [&](const RunEntry& run) {
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
    return run.job != job || !process || !process->is_running();
  });
  return runs;
}

const std::string& known_job(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  if (!environment.home().has_job(name)) environment.home().load_job(name);  // says which there are
  return name;
}

std::string moment_text(Instant when) {
  return weekday_text(when) + " " + local_text(when);
}

int pause(const Arguments& arguments, const Environment& environment) {
  const std::string& name = known_job(arguments, environment);
  const Instant now = environment.clock().now();
  Steering steering = load_steering(environment.home(), name);
  const bool before = steering.is_paused(now);
  steering.pause.emplace();
  if (std::optional<std::string> length = arguments.value("for"))
    steering.pause->until = after(now, expect_span(*length));
  if (!before) steering.paused_at = now;
  save_steering(environment.home(), name, steering);
  const std::vector<RunEntry> runs = runs_of(environment, name);
  if (arguments.has("json")) {
    print_document(done_document("paused", name));
    return exit_done;
  }
  const std::string until = steering.pause->until ? "until " + moment_text(*steering.pause->until)
                                                  : "until: kestrum continue " + shell_word(printable(name));
  out("{} {} paused {}.\n", printable(name), before ? "was paused already, and stays" : "is", until);
  for (const RunEntry& run : runs) out("  run {} holds; what it has written stays\n", run.number);
  out("  no run of it starts by itself meanwhile\n");
  return exit_done;
}

int go_on(const Arguments& arguments, const Environment& environment) {
  const std::string& name = known_job(arguments, environment);
  Steering steering = load_steering(environment.home(), name);
  if (!steering.is_paused(environment.clock().now()))
    throw Error(ErrorKind::usage, "the job '" + printable(name) + "' is not paused",
                "see how it stands: kestrum status " + shell_word(printable(name)));
  steering.pause.reset();
  save_steering(environment.home(), name, steering);
  if (arguments.has("json")) {
    print_document(done_document("continued", name));
    return exit_done;
  }
  out("{} goes on.\n", printable(name));
  for (const RunEntry& run : runs_of(environment, name))
    out("  run {} looks at its lock and its drive again, and writes on\n", run.number);
  return exit_done;
}

// Whoever is not there any more need not be told again.
void forget_ended(const Home& home, const std::string& name) {
  Steering steering = load_steering(home, name);
  std::erase_if(steering.stop, [](const std::string& text) {
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(text);
    return !process || !process->is_running();
  });
  save_steering(home, name, steering);
}

// No run goes on: what the last one has left.
int discard(const std::string& name, const Arguments& arguments, const Environment& environment) {
  Progress progress(environment, arguments.has("json"));
  StopsItself stops_itself;
  const RunContext context = run_context(environment, progress);
  const std::vector<Leftover> cleared = discard_leftovers(name, context);
  if (arguments.has("json")) {
    print_document(done_document("discarded", name));
    return exit_done;
  }
  for (const Leftover& left : cleared)
    out("Cleared what was left of point {}, begun on {}: {}.\n", left.mark.sequence,
        moment_text(left.mark.started), size_text(left.bytes));
  if (cleared.empty()) out("Nothing is left of a run of {} that was broken off.\n", printable(name));
  return exit_done;
}

int stop(const Arguments& arguments, const Environment& environment) {
  const std::string& name = known_job(arguments, environment);
  const Home& home = environment.home();
  const std::vector<RunEntry> runs = runs_of(environment, name);
  if (runs.empty() && arguments.has("discard")) return discard(name, arguments, environment);
  if (runs.empty())
    throw Error(ErrorKind::usage, "no run of '" + printable(name) + "' goes on",
                "see the past ones: kestrum history " + shell_word(printable(name)));
  Steering steering = load_steering(home, name);
  steering.discard = arguments.has("discard");
  for (const RunEntry& run : runs) {
    if (std::find(steering.stop.begin(), steering.stop.end(), run.process) == steering.stop.end()) {
      steering.stop.push_back(run.process);
    } else if (!arguments.has("json")) {
      out("Run {} of {} is being stopped already.\n", run.number, printable(name));
    }
  }
  save_steering(home, name, steering);
  // Until it has put things in order, which a slow drive may draw out.
  constexpr auto long_enough = std::chrono::seconds(60);
  const auto begun = std::chrono::steady_clock::now();
  while (!runs_of(environment, name).empty()) {
    if (std::chrono::steady_clock::now() - begun > long_enough)
      throw Error(ErrorKind::busy,
                  "the run of '" + printable(name) + "' was told to stop, and has not ended yet",
                  "it ends as soon as the drive lets it; see: kestrum status " + shell_word(printable(name)));
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  forget_ended(home, name);
  if (arguments.has("json")) {
    print_document(done_document("stopped", name));
    return exit_done;
  }
  Ledger ledger(home.ledger_path());
  for (const RunEntry& run : runs) {
    const std::optional<RunEntry> now = ledger.run(name, run.number);
    out("Run {} of {}: {}; earlier points stay as they are\n", run.number, printable(name),
        now ? result_text(now->result) : "ended");
  }
  return exit_done;
}

}  // namespace

Verb pause_verb() {
  return {
      {"pause",
       "JOB",
       "hold a job: its run that goes on, and its times",
       "It stays paused when this terminal is closed, until `continue` or the end of --for. What comes due "
       "meanwhile is made up for, or skipped, as [when] if-missed says.",
       1,
       1,
       {{"for", "LENGTH", "like \"2 hours\" (usual: until continue)"}, json_option},
       {"kestrum pause wardens", "kestrum pause wardens --for \"2 hours\""}},
      pause};
}
Verb continue_verb() {
  return {{"continue",
           "JOB",
           "let a paused job go on",
           "A run that was held looks at its lock and its drive again before it writes on.",
           1,
           1,
           {json_option},
           {"kestrum continue wardens"}},
          go_on};
}
Verb stop_verb() {
  return {
      {"stop",
       "JOB",
       "end the run of a job that goes on, cleanly",
       "Waits until it has ended. Earlier points stay as they are; the job runs again at its next time, and "
       "goes on with what was finished of the point.",
       1,
       1,
       {{"discard", "", "clear what was finished of the point, now or by a run before"}, json_option},
       {"kestrum stop wardens", "kestrum stop wardens --discard"}},
      stop};
}

}  // namespace kestrum
