#include "engine/agent.hpp"

#include <signal.h>
#include <sys/wait.h>

#include <algorithm>
#include <array>

#include "base/clock_seconds.hpp"
#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/agent_events.hpp"
#include "engine/agent_seat.hpp"
#include "engine/agent_teller.hpp"
#include "engine/attachment.hpp"
#include "engine/check_desk.hpp"
#include "engine/clock_watch.hpp"
#include "engine/job_check.hpp"
#include "engine/news.hpp"
#include "engine/point_warnings.hpp"
#include "engine/watch_desk.hpp"

namespace kestrum {
namespace {

// A run that goes on: started by this agent, or found.
struct Going {
  DueStart start;
  bool own = true;
  std::optional<CheckKind> check = {};  // it is none, but one of these
};

class Agent {
 public:
  Agent(const RunContext& context, const AgentSettings& settings, const AgentHands& hands,
        AgentListener& listener)
      : context_(context),
        settings_(settings),
        hands_(hands),
        listener_(listener),
        seat_(context.home, "agent", context.clock.now()),
        events_(context.home, context.clock, settings.beat),
        teller_(context, hands_.tell, events_,
                [this](const std::string& why) { tell("", "tell", "mail could not be sent: " + why); }),
        watch_(context.clock),
        desk_(std::make_unique<DueDesk>(context)),
        checks_{CheckDesk(context, CheckKind::check), CheckDesk(context, CheckKind::drill)},
        watches_(context, [this](const std::string& job, bool works, const std::string& words) {
          tell(job, works ? AgentEvent::watched : AgentEvent::unwatched, words);
        }) {
    events_.watch_sources(watches_.handle());
  }

  void run() {
    watched_from_ = watched_until();
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
      for (CheckDesk& checks : checks_) checks.read_jobs(*desk_);
      retry_later();
      work();
    }
  }

  void retry_later() {
    retry_ledger_ = context_.clock.now();
    retry_ledger_->seconds += retry_seconds;
  }

  // What is in memory stays until there is a ledger.
  void retry_ledger() {
    // Also when the clock was ahead and has been set back.
    const std::int64_t now = context_.clock.now().seconds;
    if (!retry_ledger_ || (now < retry_ledger_->seconds && retry_ledger_->seconds <= now + retry_seconds))
      return;
    auto desk = std::make_unique<DueDesk>(context_);
    if (!desk->is_kept()) return retry_later();
    retry_ledger_.reset();
    desk_ = std::move(desk);
    with_ledger([&] { read_jobs(); });
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
    if (!desk_->is_kept()) retry_later();
    // What is made up for waits until a machine that was just switched on has come to rest.
    const Instant now = context_.clock.now();
    const double up = context_.clock.simulated() ? 0 : clock_seconds(CLOCK_BOOTTIME);
    desk_->settle_until({now.seconds + settle_seconds - static_cast<std::int64_t>(up), now.nanoseconds});
    with_ledger([&] {
      desk_->book().give_up_all_starts();
      read_jobs();
      desk_->look_after_runs();
      find_runs();
    });
    teller_.want();
  }

  // The last sign of an agent before this one, if it is of this start of the machine; nothing where there
  // never was one.
  std::optional<Instant> watched_until() {
    std::optional<Instant> last;
    const Instant now = context_.clock.now();
    with_ledger([&] {
      constexpr std::size_t enough = 50;
      for (const AgentEvent& event : desk_->book().events(enough)) {
        if (event.when <= now && (!last || *last < event.when)) last = event.when;
      }
    });
    if (!last || context_.clock.simulated()) return last;
    const Instant boot{now.seconds - static_cast<std::int64_t>(clock_seconds(CLOCK_BOOTTIME)), 0};
    return std::max(*last, boot);
  }

  // That nobody was there though the machine was on is said once, when something was due meanwhile.
  void look_at_absence() {
    if (!watched_from_) return;
    const Instant from = *std::exchange(watched_from_, std::nullopt), now = context_.clock.now();
    std::uint64_t moments = 0;
    constexpr std::size_t enough = 1000;
    for (const DueLine& line : desk_->book().lines({}, enough, now)) {
      const bool missed =
          line.late || (line.fate == DueFate::missed && line.reason == DueReason::not_watching);
      if (missed && from < line.when && line.told >= begun_) moments += line.moments;
    }
    if (moments == 0) return;
    tell("", away_event,
         "no agent was there from " + local_text(from) + " to " + local_text(now) + ", and " +
             count_text(moments, "run") + (moments == 1 ? " was" : " were") +
             " due meanwhile; to have the system start it: kestrum agent install");
    teller_.want();
  }

  void read_jobs() {
    desk_->read_jobs();
    for (const auto& [name, job] : desk_->jobs()) {
      const std::string trouble = job.trouble ? job.trouble->what() : "";
      std::string& told = told_troubles_[name];
      if (!trouble.empty() && trouble != told) {
        tell(name, "edit", trouble + (job.in_force ? "; its last good form counts" : ""));
        teller_.want();
      }
      told = trouble;
    }
    for (CheckDesk& checks : checks_) checks.read_jobs(*desk_);
    watches_.jobs(desk_->jobs());
  }

  // Runs that go on without this agent's doing: their drives are held, and their jobs wait for their end.
  void find_runs() {
    for (const RunEntry& run : desk_->ledger().unended_runs()) {
      const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
      if (!process || !process->is_running() || going_.contains(process->pid)) continue;
      if (!events_.watch_process(process->pid)) continue;
      going_[process->pid] = Going{{run.job, 0, {}, desk_->places_of(run.job)}, false};
    }
  }

  // What is due now is started. Returns when to look again.
  std::optional<Instant> round() {
    std::optional<Instant> next;
    with_ledger([&] {
      before_round_ = desk_->book().last_id();
      desk_->notice();
      look_at_absence();
      find_runs();
      std::set<std::string> held, jobs;
      std::size_t own = 0;
      for (const auto& [pid, going] : going_) {
        own += going.own ? 1 : 0;
        // A run goes on beside a check, unless each would bring the destination about and take it away again.
        if (going.check && !brings_about_itself(going.start.job)) continue;
        held.insert(going.start.into.begin(), going.start.into.end());
        jobs.insert(going.start.job);
      }
      next = watches_.look(*desk_, jobs);
      const std::size_t most = settings_.side_by_side.value_or(home_settings().side_by_side);
      std::size_t room = most > own ? most - own : 0;
      for (const DueStart& start : desk_->decide(held, jobs, room)) {
        held.insert(start.into.begin(), start.into.end());
        jobs.insert(start.job);
        --room;
        begin_run(start);
      }
      for (CheckDesk& checks : checks_) {
        for (const std::string& job : checks.decide(*desk_, held, jobs, room)) {
          --room;
          begin_check(checks, job);
        }
      }
      look_at_waits();
      for (const std::optional<Instant>& when :
           {desk_->next_moment(), checks_[0].next_moment(), checks_[1].next_moment(), warn()}) {
        if (when && (!next || *when < *next)) next = when;
      }
    });
    teller_.look(anybody_is_told());
    for (const std::optional<Instant>& when : {retry_ledger_, teller_.next()}) {
      if (when && (!next || *when < *next)) next = when;
    }
    return next;
  }

  // That a drive is waited for comes without any run.
  void look_at_waits() {
    std::set<std::string> waiting;
    for (const auto& [job, wait] : desk_->waits()) {
      if (wait.reason == DueReason::drive) waiting.insert(job);
    }
    if (waiting == waiting_) return;
    waiting_ = std::move(waiting);
    teller_.want();
  }

  // Those that read last.
  const Settings& home_settings() {
    try {
      home_settings_ = context_.home.load_settings();
    } catch (const Error&) {
      // `status` and `settings check` say it.
    }
    return home_settings_;
  }

  // Whether there is anybody to be told of anything.
  bool anybody_is_told() {
    return !home_settings().mail.server.empty() ||
           std::any_of(desk_->jobs().begin(), desk_->jobs().end(), [](const auto& one) {
             const std::optional<JobInForce>& job = one.second.in_force;
             return job && (!job->job.tell.page.empty() || job->job.tell.desktop != TellRules::Desktop::no);
           });
  }

  void begin_run(const DueStart& start) {
    watches_.begins(start);
    try {
      const pid_t pid = hands_.run(start);
      going_[pid] = Going{start, true};
      // One that has ended already waits to be taken in: its handle tells at once.
      if (!events_.watch_process(pid)) ended(pid);
      listener_.happened({context_.clock.now(), start.job, "run", "a run begins"});
    } catch (const Error& error) {
      constexpr int failed = 3;
      desk_->start_ended(start, failed);
      watches_.ended(start.job);
      tell(start.job, "start", "its run could not be started: " + std::string(error.what()));
    }
  }

  bool brings_about_itself(const std::string& job) const {
    const auto found = desk_->jobs().find(job);
    if (found == desk_->jobs().end() || !found->second.in_force) return false;
    std::string away;
    return attaches_itself(found->second.in_force->job, away);
  }

  void begin_check(CheckDesk& checks, const std::string& job) {
    const std::string what(check_kind_word(checks.kind()));
    checks.began(job);
    try {
      const pid_t pid = hands_.check(job, checks.kind());
      going_[pid] = Going{{job, 0, {}, desk_->places_of(job)}, true, checks.kind()};
      if (!events_.watch_process(pid)) ended(pid);
      listener_.happened({context_.clock.now(), job, what, "a " + what + " begins"});
    } catch (const Error& error) {
      checks.ended(job, exit_code_of(ErrorKind::busy));
      tell(job, "start", "its " + what + " could not be started: " + std::string(error.what()));
    }
  }

  void check_ended(const std::string& job, CheckKind kind, int code) {
    for (CheckDesk& checks : checks_) {
      if (checks.kind() == kind) checks.ended(job, code);
    }
    const std::string what(check_kind_word(kind));
    std::string words = "ended with exit code " + std::to_string(code);
    with_ledger([&] {
      for (const JobCheck& check : CheckBook(desk_->ledger()).checks(job, kind, 1)) {
        if (check.ended) words = check_text(check);
      }
    });
    listener_.happened({context_.clock.now(), job, what, what + ": " + words});
  }

  void ended(pid_t pid) {
    if (teller_.ended(pid)) return;
    teller_.want();
    auto found = going_.find(pid);
    if (found == going_.end()) return;
    const Going going = found->second;
    going_.erase(found);
    int status = 0;
    const bool reaped = going.own && waitpid(pid, &status, 0) == pid;
    constexpr int by_signal = 128;
    const int code = !reaped ? 0 : WIFEXITED(status) ? WEXITSTATUS(status) : by_signal + WTERMSIG(status);
    if (going.check) return check_ended(going.start.job, *going.check, code);
    with_ledger([&] {
      desk_->look_after_runs([&](const RunEntry& run) {
        const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
        return process && process->pid == pid;
      });
      if (going.own) desk_->start_ended(going.start, code);
    });
    watches_.ended(going.start.job);
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
    if (change.set_by != 0 || change.slept) teller_.want();
    if (!change.slept) look_at_jump(change.set_by);
    if (happened.jobs) with_ledger([&] { read_jobs(); });
    if (happened.mounts) {
      desk_->drives_changed();
      for (CheckDesk& checks : checks_) checks.drives_changed();
      watches_.jobs(desk_->jobs());
      watches_.mounts_changed();
    }
    retry_ledger();
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
      // Times that count since then count from now on.
      if (set_by < -clock_ahead_seconds) read_jobs();
    });
  }

  // Returns when the next one is near.
  std::optional<Instant> warn() {
    return warnings_.look(*desk_, context_.clock.now(),
                          [&](const std::string& job, const std::string& words) {
                            teller_.want();
                            tell(job, "warned", words);
                          });
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
    teller_.stop();
    while (teller_.goes() ||
           std::any_of(going_.begin(), going_.end(), [](const auto& one) { return one.second.own; })) {
      for (pid_t pid : events_.wait({}).ended) ended(pid);
    }
    tell("", "ends", "the agent ends; it was woken " + std::to_string(events_.wake_ups()) + " times");
  }

  static constexpr std::int64_t retry_seconds = 600;
  const RunContext& context_;
  const AgentSettings& settings_;
  const AgentHands& hands_;
  AgentListener& listener_;
  AgentSeat seat_;
  AgentEvents events_;
  AgentTeller teller_;
  ClockWatch watch_;
  std::unique_ptr<DueDesk> desk_;
  std::array<CheckDesk, 2> checks_;
  WatchDesk watches_;
  std::map<pid_t, Going> going_;
  std::map<std::string, std::string> told_troubles_;
  PointWarnings warnings_;
  std::optional<Instant> retry_ledger_;
  std::optional<Instant> watched_from_;  // an agent was last there, before this one
  const Instant begun_ = context_.clock.now();
  Settings home_settings_;
  std::set<std::string> waiting_;            // jobs whose drive is not there
  std::int64_t before_round_ = 0;            // the newest line then
  std::optional<std::int64_t> before_jump_;  // the newest line before the clock was set far ahead
};

}  // namespace

void run_agent(const RunContext& context, const AgentSettings& settings, const AgentHands& hands,
               AgentListener& listener) {
  Agent(context, settings, hands, listener).run();
}

}  // namespace kestrum
