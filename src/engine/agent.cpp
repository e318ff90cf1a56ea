#include "engine/agent.hpp"

#include <signal.h>
#include <sys/wait.h>

#include <algorithm>
#include <ctime>

#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/agent_events.hpp"
#include "engine/agent_seat.hpp"

namespace kestrum {
namespace {

double seconds_of(clockid_t clock) {
  timespec now{};
  clock_gettime(clock, &now);
  return static_cast<double>(now.tv_sec) + static_cast<double>(now.tv_nsec) / 1e9;
}

// Says when the machine slept, and when its clock was set.
class ClockWatch {
 public:
  explicit ClockWatch(const Clock& clock) : clock_(clock) { remember(); }

  struct Change {
    bool slept = false;
    std::int64_t set_by = 0;  // seconds, forwards or backwards
  };
  Change look() {
    // A second is what rounding and reading two clocks one after the other may make.
    constexpr double trifle = 1.0;
    Change change;
    change.slept = seconds_of(CLOCK_BOOTTIME) - seconds_of(CLOCK_MONOTONIC) > asleep_ + trifle;
    const double passed = (seconds_of(CLOCK_BOOTTIME) - boot_) * rate_;
    const double off = std::chrono::duration<double>(between(then_, clock_.now())).count() - passed;
    if (std::abs(off) > trifle * std::max(1.0, rate_)) change.set_by = static_cast<std::int64_t>(off);
    remember();
    return change;
  }

 private:
  void remember() {
    boot_ = seconds_of(CLOCK_BOOTTIME);
    asleep_ = boot_ - seconds_of(CLOCK_MONOTONIC);
    then_ = clock_.now();
    rate_ = clock_.rate();
  }
  const Clock& clock_;
  double boot_ = 0, asleep_ = 0, rate_ = 1;
  Instant then_;
};

// A run that goes on: started by this agent, or found.
struct Going {
  DueStart start;
  bool own = true;
};

class Agent {
 public:
  Agent(const RunContext& context, const AgentSettings& settings, const StartRun& start_run,
        AgentListener& listener)
      : context_(context),
        settings_(settings),
        start_run_(start_run),
        listener_(listener),
        seat_(context.home, "agent", context.clock.now()),
        events_(context.home, context.clock, settings.beat),
        watch_(context.clock),
        desk_(std::make_unique<DueDesk>(context)) {}

  void run() {
    tell("", "begins",
         "the agent of process " + std::to_string(getpid()) + " looks after the jobs from now on");
    begin();
    listener_.ready();
    while (true) {
      const std::optional<Instant> next = round();
      listener_.stands(standing(next));
      const AgentEvents::Happened happened = events_.wait(next);
      listener_.beats();
      // Also what came at the same moment as the end: a run's end is told once.
      take_in(happened);
      if (happened.stop) break;
    }
    end();
  }

 private:
  // A ledger that is full or broken is no reason to start nothing: what is due is kept in memory then.
  template <typename F>
  void with_ledger(F&& work) {
    try {
      work();
    } catch (const Error& error) {
      listener_.happened({context_.clock.now(), "", "ledger", error.what()});
      desk_ = std::make_unique<DueDesk>(context_, DueDesk::InMemory{});
      desk_->read_jobs();
      retry_ledger_ = context_.clock.now();
      retry_ledger_->seconds += retry_seconds;
      work();
    }
  }

  void tell(const std::string& job, const std::string& what, const std::string& words) {
    const AgentEvent event{context_.clock.now(), job, what, words};
    try {
      desk_->book().add_event(event);
    } catch (const Error&) {
      // It is told all the same.
    }
    listener_.happened(event);
  }

  void begin() {
    // What is made up for waits until a machine that was just switched on has come to rest.
    const Instant now = context_.clock.now();
    const double up = context_.clock.simulated() ? 0 : seconds_of(CLOCK_BOOTTIME);
    desk_->settle_until({now.seconds + settle_seconds - static_cast<std::int64_t>(up), now.nanoseconds});
    with_ledger([&] {
      desk_->book().give_up_all_starts();
      read_jobs();
      desk_->look_after_runs();
      find_runs();
    });
  }

  void read_jobs() {
    desk_->read_jobs();
    for (const auto& [name, job] : desk_->jobs()) {
      const std::string trouble = job.trouble ? job.trouble->what() : "";
      std::string& told = told_troubles_[name];
      if (!trouble.empty() && trouble != told)
        tell(name, "edit", trouble + (job.in_force ? "; its last good form counts" : ""));
      told = trouble;
    }
  }

  // Runs that go on without this agent's doing: their drives are held, and their jobs wait for their end.
  void find_runs() {
    for (const RunEntry& run : desk_->ledger().unended_runs()) {
      const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
      if (!process || !process->is_running() || going_.contains(process->pid)) continue;
      if (!events_.watch_process(process->pid)) continue;
      going_[process->pid] = Going{{run.job, 0, desk_->places_of(run.job)}, false};
    }
  }

  // What is due now is started. Returns when to look again.
  std::optional<Instant> round() {
    std::optional<Instant> next;
    with_ledger([&] {
      before_round_ = desk_->book().last_id();
      desk_->notice();
      find_runs();
      std::set<std::string> held, jobs;
      std::size_t own = 0;
      for (const auto& [pid, going] : going_) {
        held.insert(going.start.into.begin(), going.start.into.end());
        jobs.insert(going.start.job);
        own += going.own ? 1 : 0;
      }
      const std::size_t room = settings_.side_by_side > own ? settings_.side_by_side - own : 0;
      for (const DueStart& start : desk_->decide(held, jobs, room)) begin_run(start);
      next = desk_->next_moment();
      if (std::optional<Instant> warning = warn(); warning && (!next || *warning < *next)) next = warning;
    });
    if (retry_ledger_ && (!next || *retry_ledger_ < *next)) next = retry_ledger_;
    return next;
  }

  void begin_run(const DueStart& start) {
    try {
      const pid_t pid = start_run_(start);
      going_[pid] = Going{start, true};
      // One that has ended already waits to be taken in: its handle tells at once.
      if (!events_.watch_process(pid)) ended(pid);
      listener_.happened({context_.clock.now(), start.job, "run", "a run begins"});
    } catch (const Error& error) {
      constexpr int failed = 3;
      desk_->start_ended(start, failed);
      tell(start.job, "start", "its run could not be started: " + std::string(error.what()));
    }
  }

  void ended(pid_t pid) {
    auto found = going_.find(pid);
    if (found == going_.end()) return;
    const Going going = found->second;
    going_.erase(found);
    int status = 0;
    const bool reaped = going.own && waitpid(pid, &status, 0) == pid;
    constexpr int by_signal = 128;
    const int code = !reaped ? 0 : WIFEXITED(status) ? WEXITSTATUS(status) : by_signal + WTERMSIG(status);
    with_ledger([&] {
      desk_->look_after_runs([&](const RunEntry& run) {
        const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
        return process && process->pid == pid;
      });
      if (going.own) desk_->start_ended(going.start, code);
    });
    listener_.happened({context_.clock.now(), going.start.job, "run", end_words(going.start.job, pid, code)});
  }

  // What became of a run, as far as it is known.
  std::string end_words(const std::string& job, pid_t pid, int code) {
    constexpr int by_signal = 128;
    std::string words = code > by_signal ? "ended by signal " + std::to_string(code - by_signal)
                        : code == 0      ? "ended"
                                         : "ended with exit code " + std::to_string(code);
    with_ledger([&] {
      constexpr int enough = 5;
      for (const RunEntry& run : desk_->ledger().runs(job, enough)) {
        const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
        if (!process || process->pid != pid) continue;
        words = std::string(result_text(run.result)) + ", run " + std::to_string(run.number);
        if (!run.message.empty()) words += ": " + run.message;
        return;
      }
    });
    return words;
  }

  void take_in(const AgentEvents::Happened& happened) {
    for (pid_t pid : happened.ended) ended(pid);
    const ClockWatch::Change change = watch_.look();
    if (change.slept) {
      const Instant now = context_.clock.now();
      desk_->settle_until({now.seconds + settle_seconds, now.nanoseconds});
      tell("", "woke", "the machine was asleep");
    }
    if (happened.clock && change.set_by != 0 && !change.slept)
      tell("", "clock",
           "the clock was set " + std::string(change.set_by > 0 ? "forwards" : "back") + " by " +
               duration_text(std::chrono::seconds(std::abs(change.set_by))) + ", to " +
               local_text(context_.clock.now()));
    if (!change.slept) look_at_jump(change.set_by);
    if (happened.jobs) with_ledger([&] { read_jobs(); });
    if (happened.mounts) desk_->drives_changed();
    if (retry_ledger_ && *retry_ledger_ <= context_.clock.now()) {
      retry_ledger_.reset();
      desk_ = std::make_unique<DueDesk>(context_);
      with_ledger([&] { read_jobs(); });
    }
  }

  // Set far ahead and back again: what was written in between was never due. Without having seen both, as
  // after a start with a clock of 1970, nothing is touched.
  void look_at_jump(std::int64_t set_by) {
    with_ledger([&] {
      // The last round may have seen the new time already.
      if (set_by > clock_ahead_seconds && !before_jump_) before_jump_ = before_round_;
      if (set_by < -clock_ahead_seconds && before_jump_) {
        desk_->book().forget_lines(*before_jump_, context_.clock.now());
        before_jump_.reset();
      }
    });
  }

  // Says it before there is no good point for longer than a job allows. Returns when the next one is near.
  std::optional<Instant> warn() {
    std::optional<Instant> next;
    const Instant now = context_.clock.now();
    for (const auto& [name, job] : desk_->jobs()) {
      if (!job.in_force || !job.in_force->job.warn_after || job.times.empty()) continue;
      const Span& limit = *job.in_force->job.warn_after;
      const std::optional<RunEntry> newest = desk_->ledger().newest_point(name, now);
      const Instant since = newest ? newest->started : job.times[0].since;
      if (warned_[name] == since) continue;
      const Instant begins = warn_from(since, limit);
      auto look_again = [&](Instant when) {
        if (!next || when < *next) next = when;
      };
      if (now < begins) {
        look_again(begins);
        continue;
      }
      // The run that comes in time is no reason to worry.
      const std::optional<DueMoment> due = next_due(job.times, now);
      const std::optional<Instant> opens = due ? job.in_force->job.window.opens(due->when) : std::nullopt;
      if (opens && *opens < after(since, limit) && !desk_->waits().contains(name)) {
        look_again({opens->seconds + in_time_seconds, 0});
        continue;
      }
      warned_[name] = since;
      tell(name, "warned",
           "no good point since " + local_text(since) + "; the " + limit.text() +
               " that the job allows end on " + local_text(after(since, limit)));
    }
    return next;
  }

  std::string standing(std::optional<Instant> next) const {
    std::vector<std::string> running;
    for (const auto& [pid, going] : going_) running.push_back(printable(going.start.job));
    std::string line = running.empty() ? "nothing runs" : "running: " + join(running, ", ");
    if (!desk_->waits().empty()) line += "; waiting: " + std::to_string(desk_->waits().size());
    if (next) line += "; looks again " + local_text(*next);
    return line;
  }

  // The runs are stopped cleanly; nothing of them is left half-done.
  void end() {
    listener_.stands("ending");
    for (const auto& [pid, going] : going_) {
      if (going.own) kill(pid, SIGTERM);
    }
    while (std::any_of(going_.begin(), going_.end(), [](const auto& one) { return one.second.own; })) {
      for (pid_t pid : events_.wait({}).ended) ended(pid);
    }
    tell("", "ends", "the agent ends; it was woken " + std::to_string(events_.wake_ups()) + " times");
  }

  static constexpr std::int64_t retry_seconds = 600;
  const RunContext& context_;
  const AgentSettings& settings_;
  const StartRun& start_run_;
  AgentListener& listener_;
  AgentSeat seat_;
  AgentEvents events_;
  ClockWatch watch_;
  std::unique_ptr<DueDesk> desk_;
  std::map<pid_t, Going> going_;
  std::map<std::string, std::string> told_troubles_;
  std::map<std::string, Instant> warned_;  // by job: of which newest point
  std::optional<Instant> retry_ledger_;
  std::int64_t before_round_ = 0;            // the newest line then
  std::optional<std::int64_t> before_jump_;  // the newest line before the clock was set far ahead
};

}  // namespace

void run_agent(const RunContext& context, const AgentSettings& settings, const StartRun& start_run,
               AgentListener& listener) {
  Agent(context, settings, start_run, listener).run();
}

}  // namespace kestrum
