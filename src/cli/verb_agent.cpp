// agent, and the hidden verb that it starts for each run.
#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <systemd/sd-daemon.h>
#include <unistd.h>

#include <csignal>
#include <limits>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/countdown.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/agent.hpp"
#include "engine/job_drill.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

// What happens goes to standard error, a line each: the system's log keeps it.
class PrintedAgent final : public AgentListener {
 public:
  void ready() override { sd_notify(0, "READY=1"); }
  void beats() override { sd_notify(0, "WATCHDOG=1"); }
  void stands(const std::string& line) override { sd_notify(0, ("STATUS=" + line).c_str()); }
  void happened(const AgentEvent& event) override {
    err("{}  {}{}\n", local_text(event.when), event.job.empty() ? "" : printable(event.job) + ": ",
        printable(event.words));
  }
};

struct SpawnActions {
  SpawnActions() {
    posix_spawn_file_actions_init(&files);
    posix_spawnattr_init(&attributes);
  }
  ~SpawnActions() {
    posix_spawn_file_actions_destroy(&files);
    posix_spawnattr_destroy(&attributes);
  }
  SpawnActions(const SpawnActions&) = delete;
  SpawnActions& operator=(const SpawnActions&) = delete;
  posix_spawn_file_actions_t files;
  posix_spawnattr_t attributes;
};

// This very program, with nothing to read, in a group of its own so that Ctrl-C reaches only the agent, which
// stops it in its turn. `what`: for a message.
pid_t start_self(std::vector<std::string> words, const std::string& what) {
  SpawnActions spawn;
  posix_spawn_file_actions_addopen(&spawn.files, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_addopen(&spawn.files, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
  sigset_t none;
  sigemptyset(&none);
  posix_spawnattr_setsigmask(&spawn.attributes, &none);
  posix_spawnattr_setpgroup(&spawn.attributes, 0);
  posix_spawnattr_setflags(&spawn.attributes, POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETPGROUP);
  words.insert(words.begin(), "kestrum");
  std::vector<char*> pointers;
  for (std::string& word : words) pointers.push_back(word.data());
  pointers.push_back(nullptr);
  pid_t pid = 0;
  const int code =
      posix_spawn(&pid, "/proc/self/exe", &spawn.files, &spawn.attributes, pointers.data(), environ);
  if (code != 0) throw system_error("start", what, code);
  return pid;
}

pid_t start_run(const DueStart& start) {
  return start_self({"agent-run", "--start", std::to_string(start.start), "--", start.job},
                    "a run of " + start.job);
}

pid_t start_check(const std::string& job, CheckKind kind) {
  const std::string what(check_kind_word(kind));
  return start_self({"agent-" + what, "--", job}, "a " + what + " of " + job);
}

pid_t start_telling() {
  return start_self({"agent-tell"}, "the telling");
}

int agent(const Arguments& arguments, const Environment& environment) {
  AgentSettings settings;
  if (const std::optional<std::int64_t> number = arguments.number("side-by-side", 1, 64))
    settings.side_by_side = static_cast<unsigned>(*number);
  Progress progress(environment, true);
  RunContext context = run_context(environment, progress);
  // The system's manager wants to hear in time that it lives.
  std::uint64_t watchdog = 0;
  if (sd_watchdog_enabled(0, &watchdog) > 0) settings.beat = std::chrono::microseconds(watchdog / 2);
  PrintedAgent listener;
  run_agent(context, settings, {start_run, start_check, start_telling}, listener);
  sd_notify(0, "STOPPING=1");
  return exit_done;
}

int agent_run(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  Progress progress(environment, true);
  RunLog log(environment.clock());
  Listeners listeners({&progress, &log});
  RunContext context = run_context(environment, listeners);
  context.ask = {};
  context.unattended = true;
  context.start = arguments.number("start", 0, std::numeric_limits<std::int64_t>::max()).value_or(0);
  StopsItself stops_itself;
  int worst = exit_done;
  std::vector<RunOutcome> outcomes;
  try {
    outcomes = run_job(name, {}, context, [&](const RunOutcome& outcome) {
      if (std::optional<std::string> trouble = log.finish(outcome)) err("kestrum: {}\n", *trouble);
      if (outcome.error) err("kestrum: {}: {}\n", printable(name), outcome.error->what());
      if (!outcome.made_good_elsewhere) worst = worse_exit(worst, outcome.entry.exit_code);
    });
  } catch (const NotAskedFor&) {
    err("kestrum: {}: another process has taken this start over\n", printable(name));
  }
  finish_shown(outcomes, environment, true);
  return worst;
}

int by_agent(const Arguments& arguments, const Environment& environment, CheckKind kind) {
  const std::string& name = arguments.words()[0];
  Progress progress(environment, true);
  RunContext context = run_context(environment, progress);
  context.ask = {};
  context.unattended = true;
  StopsItself stops_itself;
  const JobCheck made =
      kind == CheckKind::drill ? drill_job(name, context).entry : check_job(name, context).entry;
  if (made.exit_code != exit_done)
    err("kestrum: {}: {}: {}\n", printable(name), check_kind_word(kind), check_text(made));
  return made.exit_code;
}

int agent_check(const Arguments& arguments, const Environment& environment) {
  return by_agent(arguments, environment, CheckKind::check);
}

int agent_drill(const Arguments& arguments, const Environment& environment) {
  return by_agent(arguments, environment, CheckKind::drill);
}

}  // namespace

Verb agent_verb() {
  return {
      {"agent",
       "",
       "start jobs when they are due, until ended",
       "One for all jobs of this home. It is woken by their times, by changes of their files and by drives "
       "that come; job files may be changed while it runs. What it does is told line by line; SIGTERM or "
       "Ctrl-C ends it and stops its runs cleanly. To have the system start it: kestrum agent install.",
       0,
       0,
       {{"side-by-side", "N", "so many runs at a time, to different drives (usual: as the settings say)"}},
       {"kestrum agent", "kestrum agent --side-by-side 1"}},
      agent};
}

Verb agent_run_verb() {
  return {{"agent-run",
           "JOB",
           "one run, for the agent",
           "",
           1,
           1,
           {{"start", "NUMBER", "the start that it is"}},
           {}},
          agent_run};
}

Verb agent_check_verb() {
  return {{"agent-check", "JOB", "one check, for the agent", "", 1, 1, {}, {}}, agent_check};
}

Verb agent_drill_verb() {
  return {{"agent-drill", "JOB", "one drill, for the agent", "", 1, 1, {}, {}}, agent_drill};
}

}  // namespace kestrum
