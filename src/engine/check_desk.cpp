#include "engine/check_desk.hpp"

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "engine/holding_back.hpp"
#include "engine/reach.hpp"

namespace kestrum {
namespace {

constexpr int enough = 50;  // of the newest checks

bool is_ahead(Instant when, Instant now) {
  return when.seconds > now.seconds + clock_ahead_seconds;
}

}  // namespace

void CheckDesk::read_jobs(DueDesk& desk, bool only_look) {
  times_.clear();
  for (const auto& [name, job] : desk.jobs()) {
    if (!job.in_force) continue;
    const std::vector<Phrase> phrases =
        kind_ == CheckKind::drill ? drill_times_of(job.in_force->job) : check_times_of(job.in_force->job);
    std::vector<CountedTime> times = counted_times(desk.book(), CheckBook::times_of(name, kind_), phrases,
                                                   context_.clock.now(), only_look);
    if (!times.empty()) times_[name] = std::move(times);
  }
}

std::optional<CheckDesk::Due> CheckDesk::due(const std::string& job,
                                             const std::vector<JobCheck>& newest_first) const {
  const Instant now = context_.clock.now();
  std::optional<Instant> known;
  auto later = [&](Instant when) {
    if (!is_ahead(when, now) && (!known || *known < when)) known = when;
  };
  for (const JobCheck& check : newest_first) {
    if (check.settles()) later(check.started);
  }
  if (auto made = made_.find(job); made != made_.end()) later(made->second);
  const DueMoments moments = due_between(times_.at(job), known, now, 1);
  if (moments.moments.empty()) return std::nullopt;
  const Instant last = moments.moments.back().when;
  return Due{moments.before > 0 ? moments.before_first : last, last};
}

bool CheckDesk::goes(const std::string& job, const std::vector<JobCheck>& newest_first) const {
  if (going_.contains(job)) return true;
  return std::any_of(newest_first.begin(), newest_first.end(), [](const JobCheck& check) {
    if (check.ended) return false;
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(check.process);
    return process && process->is_running();
  });
}

std::optional<DueWait> CheckDesk::waits(const DueDesk& desk, const DeskJob& job, const Due& due) {
  const Job& definition = job.in_force->job;
  StartQuestion question = start_question(definition, context_);
  const auto seen = in_time_.find(job.name);
  const bool late = (seen == in_time_.end() || seen->second != due.last) &&
                    question.now.seconds - due.last.seconds > in_time_seconds;
  // Nothing is kept of what is given up: it is found late again.
  if (late && !question.catch_up) return std::nullopt;
  question.waiting = {{due.last, late}};
  question.settled = desk.settled();
  question.not_before = backoff_.not_before(job.name, question.now);
  question.held_back = held_back_now(definition);
  const StartDecision decision = decide_start(question);
  DueWait wait{decision.reason, due.first, decision.look_again, {}};
  switch (decision.what) {
    case StartDecision::What::nothing:
    case StartDecision::What::give_up:
      return std::nullopt;
    case StartDecision::What::wait:
      return wait;
    case StartDecision::What::start:
      break;
  }
  const Reach reach = reach_of(definition, context_);
  if (reach.is_away()) {
    constexpr std::int64_t look_for_drive_seconds = 3600;  // not everywhere is it told that one comes
    wait.reason = DueReason::drive;
    wait.drive = reach.drive;
    wait.look_again = {question.now.seconds + look_for_drive_seconds, 0};
  }
  return wait;
}

std::vector<std::string> CheckDesk::decide(DueDesk& desk, const std::set<std::string>& held,
                                           const std::set<std::string>& going, std::size_t most) {
  look_again_.clear();
  std::vector<std::string> starts;
  const Instant now = context_.clock.now();
  for (const auto& [name, times] : times_) {
    const auto job = desk.jobs().find(name);
    if (job == desk.jobs().end() || !job->second.in_force) continue;
    const std::vector<JobCheck> checks = CheckBook(desk.ledger()).checks(name, kind_, enough);
    const std::optional<Due> moments = due(name, checks);
    if (!moments || goes(name, checks)) continue;
    if (now.seconds - moments->last.seconds <= in_time_seconds) in_time_[name] = moments->last;
    const std::optional<DueWait> wait = waits(desk, job->second, *moments);
    if (!wait) continue;
    if (wait->look_again) look_again_[name] = *wait->look_again;
    if (wait->reason != DueReason::none) continue;
    const std::vector<std::string> into = reach_of(job->second.in_force->job, context_).into;
    const bool busy = going.contains(name) || std::any_of(into.begin(), into.end(),
                                                          [&](const auto& at) { return held.contains(at); });
    // The end of the run wakes who waits.
    if (!busy && starts.size() < most) starts.push_back(name);
  }
  return starts;
}

void CheckDesk::ended(const std::string& job, int exit_code) {
  const Instant now = context_.clock.now();
  const JobCheck check{.id = 0,
                       .job = job,
                       .started = going_.contains(job) ? going_[job] : now,
                       .ended = now,
                       .exit_code = exit_code};
  going_.erase(job);
  constexpr int by_signal = 128;
  if (check.settles() && exit_code < by_signal) {
    made_[job] = check.started;
    backoff_.began(job);
  } else {
    backoff_.came_to_nothing(job, now);
  }
}

std::optional<Instant> CheckDesk::next_moment() const {
  std::optional<Instant> next;
  const Instant now = context_.clock.now();
  auto earlier = [&](std::optional<Instant> when) {
    if (when && (!next || *when < *next)) next = when;
  };
  for (const auto& [name, times] : times_) {
    if (const std::optional<DueMoment> due = next_due(times, now)) earlier(due->when);
  }
  for (const auto& [name, when] : look_again_) earlier(when);
  return next;
}

CheckLook CheckDesk::look(DueDesk& desk, const std::string& job) {
  CheckLook look;
  std::vector<JobCheck> checks;
  try {
    checks = CheckBook(desk.ledger()).checks(job, kind_, enough);
  } catch (const Error&) {
    // One of an earlier version that may not be written.
  }
  for (const JobCheck& check : checks) {
    if (!look.last && check.ended) look.last = check;
  }
  look.going = goes(job, checks);
  const auto times = times_.find(job);
  if (times == times_.end()) return look;
  look.by_times = true;
  if (const std::optional<Due> moments = due(job, checks))
    look.wait = waits(desk, desk.jobs().at(job), *moments);
  if (const std::optional<DueMoment> next = next_due(times->second, context_.clock.now()))
    look.next = desk.jobs().at(job).in_force->job.window.opens(next->when);
  return look;
}

}  // namespace kestrum
