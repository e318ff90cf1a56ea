#include "engine/due_desk.hpp"

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "engine/holding_back.hpp"
#include "engine/reach.hpp"
#include "ledger/check_book.hpp"

namespace kestrum {
namespace {

constexpr std::size_t most_moments = 1000;
// Where a destination is a path, nothing tells when it comes back; nor everywhere that a drive was plugged
// in.
constexpr std::int64_t look_for_paths_seconds = 3600;
constexpr int by_signal = 128;

Instant later(Instant when, std::int64_t seconds) {
  return {when.seconds + seconds, when.nanoseconds};
}

std::unique_ptr<Ledger> open_ledger(const RunContext& context, bool& kept) {
  try {
    return Ledger::open_or_renew(context.home.ledger_path(),
                                 [&](const std::string& text) { context.observer.note(text); });
  } catch (const Error& error) {
    context.observer.note("what was due cannot be kept: " + std::string(error.what()) +
                          "; jobs are started all the same");
    kept = false;
    return std::make_unique<Ledger>(Database::in_memory);
  }
}

// One that may not be written serves as it is; none tells nothing.
std::unique_ptr<Ledger> look_into_ledger(const RunContext& context) {
  for (const Ledger::Access access : {Ledger::Access::writing, Ledger::Access::reading}) {
    try {
      return std::make_unique<Ledger>(context.home.ledger_file(), access);
    } catch (const Error&) {
      // The next way.
    }
  }
  return std::make_unique<Ledger>(Database::in_memory);
}

bool made_point(const RunEntry& run) {
  return run.ended && run.exit_code <= exit_problems && run.sequence;
}

// A run that somebody made after that moment does for it: the first that does.
const RunEntry* made_up_by(const DueLine& line, const std::vector<RunEntry>& newest_first, Instant now) {
  for (auto run = newest_first.rbegin(); run != newest_first.rend(); ++run) {
    // One from a clock that was ahead says nothing of moments that are still to come.
    if (run->started.seconds > now.seconds + in_time_seconds) continue;
    if (made_point(*run) && run->started >= line.when && (line.kind != Kind::full || run->kind == Kind::full))
      return &*run;
  }
  return nullptr;
}

}  // namespace

DueDesk::DueDesk(const RunContext& context)
    : context_(context), ledger_(open_ledger(context, kept_)), book_(*ledger_) {}

DueDesk::DueDesk(const RunContext& context, InMemory)
    : context_(context),
      kept_(false),
      ledger_(std::make_unique<Ledger>(Database::in_memory)),
      book_(*ledger_) {}

DueDesk::DueDesk(const RunContext& context, OnlyLook)
    : context_(context), ledger_(look_into_ledger(context)), book_(*ledger_) {}

std::vector<CountedTime> counted_times(DueBook& book, const std::string& name,
                                       const std::vector<Phrase>& phrases, Instant now, bool only_look) {
  std::vector<CountedTime> times;
  std::vector<std::string> texts;
  for (const Phrase& phrase : phrases) texts.push_back(phrase.text());
  const std::vector<TimeSince> since =
      only_look ? book.known_times(name) : book.count_times(name, texts, now);
  for (const Phrase& phrase : phrases) {
    auto known = std::find_if(since.begin(), since.end(),
                              [&](const TimeSince& one) { return one.phrase == phrase.text(); });
    times.push_back({phrase, known != since.end() ? known->since : now});
  }
  return times;
}

void DueDesk::read_jobs(bool only_look) {
  std::map<std::string, DeskJob> now;
  for (const std::string& name : context_.home.job_names()) {
    DeskJob& job = now[name];
    job.name = name;
    try {
      job.in_force = job_in_force(context_.home, name, &job.trouble);
    } catch (const Error& error) {
      job.trouble = error;  // it went this very moment
    }
    if (!job.in_force) continue;
    if (!job.trouble && !only_look) remember_good_form(context_.home, job.in_force->job);
    job.times = counted_times(book_, name, times_of(job.in_force->job), context_.clock.now(), only_look);
  }
  jobs_ = std::move(now);
  if (only_look) return;
  for (DueLine& line : book_.waiting()) {
    auto job = jobs_.find(line.job);
    // Of a file that does not read nothing is known.
    if (job != jobs_.end() && !job->second.in_force) continue;
    if (job != jobs_.end() && !job->second.times.empty()) continue;
    line.fate = DueFate::skipped;
    line.reason = DueReason::withdrawn;
    line.start = 0;
    book_.update(line);
  }
}

// For the moments that have come and have no line.
std::vector<DueLine> DueDesk::lines_due(const DeskJob& job) {
  const Instant now = context_.clock.now();
  std::vector<DueLine> lines;
  if (job.times.empty()) return lines;
  const DueMoments due = due_between(job.times, book_.newest_line(job.name, now), now, most_moments);
  auto add = [&](const DueMoment& moment, Instant first, std::uint64_t moments) {
    const bool late = now.seconds - moment.when.seconds > in_time_seconds;
    DueLine line{.job = job.name,
                 .when = moment.when,
                 .first = first,
                 .moments = moments,
                 .phrase = moment.phrase,
                 .kind = moment.kind};
    line.reason = late ? DueReason::not_watching : DueReason::none;
    line.late = late;
    lines.push_back(std::move(line));
  };
  if (due.before > 0) add({due.before_last, {}, {}}, due.before_first, due.before);
  for (const DueMoment& moment : due.moments) add(moment, moment.when, 1);
  return lines;
}

void DueDesk::notice() {
  const Instant now = context_.clock.now();
  for (const auto& [name, job] : jobs_) {
    const std::optional<Instant> known = book_.newest_line(name, now);
    book_.add(lines_due(job), now);
    book_.forget_ahead(name, known, now);
  }
}

std::optional<Instant> DueDesk::add_change(const std::string& job) {
  const Instant now{context_.clock.now().seconds, 0};
  if (const std::optional<Instant> newest = book_.newest_line(job, now); newest && *newest == now)
    return std::nullopt;
  Phrase phrase;
  phrase.type = Phrase::Type::on_change;
  book_.add({DueLine{.job = job, .when = now, .first = now, .phrase = phrase.text()}}, now);
  const std::vector<RunEntry> runs = ledger_->runs(job, 1);
  added_changes_[job] = {now, runs.empty() ? 0 : runs[0].id};
  return now;
}

std::map<std::string, DueLook> DueDesk::look_ahead() {
  std::map<std::string, RunEntry> going;
  for (const RunEntry& run : ledger_->unended_runs()) {
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
    if (process && process->is_running()) going[run.job] = run;
  }
  std::map<std::string, DueLook> looks;
  for (const auto& [name, job] : jobs_) {
    if (!job.in_force) continue;
    auto found = going.find(name);
    looks[name] = look_at(job, found != going.end() ? std::optional(found->second) : std::nullopt);
  }
  return looks;
}

DueLook DueDesk::look_at(const DeskJob& job, std::optional<RunEntry> going) {
  const Job& definition = job.in_force->job;
  const Instant now = context_.clock.now();
  DueLook look;
  look.going = std::move(going);
  StartQuestion question = question_of(job, look.going.has_value());
  if (question.pause && (!question.pause->until || *question.pause->until > now)) look.pause = question.pause;
  if (std::optional<DueMoment> next = next_due(job.times, now))
    look.next = definition.window.opens(next->when);
  look.on_change = runs_on_change(definition);
  if (std::optional<AgentEvent> said = look.on_change ? book_.watching(job.name) : std::nullopt;
      said && said->what == AgentEvent::unwatched)
    look.unwatched = said->words;
  constexpr int enough = 50;
  const std::vector<RunEntry> runs = ledger_->runs(job.name, enough);
  std::vector<DueLine> waiting = book_.waiting(job.name);
  for (DueLine& line : lines_due(job)) waiting.push_back(std::move(line));
  std::erase_if(waiting, [&](const DueLine& line) { return made_up_by(line, runs, now) != nullptr; });
  // What is given up, and what was: as long as no good point was made after it.
  for (const DueLine& line : book_.lines(job.name, 1, now)) {
    const bool given_up = line.fate == DueFate::missed ||
                          (line.fate == DueFate::skipped && line.reason != DueReason::withdrawn);
    if (given_up && made_up_by(line, runs, now) == nullptr) look.missed = line.when;
  }
  for (const DueLine& line : waiting) {
    if (!definition.catch_up && line.late) look.missed = line.when;
    if (definition.catch_up || !line.late) question.waiting.push_back({line.when, line.late});
  }
  if (question.waiting.empty()) return look;
  question.held_back = held_back_now(definition);
  const StartDecision decision = decide_start(question);
  DueWait wait{decision.reason, question.waiting.front().when, decision.look_again, {}};
  if (decision.what == StartDecision::What::start) {
    const Reach reach = reach_of(definition, context_);
    if (reach.is_away()) {
      wait.reason = DueReason::drive;
      wait.drive = reach.drive;
    }
  }
  look.wait = wait;
  return look;
}

void DueDesk::look_after_runs(const std::function<bool(const RunEntry&)>& seen_to_end) {
  for (const RunEntry& run : ledger_->unended_runs()) {
    const std::optional<ProcessIdentity> process = ProcessIdentity::parse(run.process);
    if (process && process->is_running()) continue;
    // Processes of a container cannot be seen from outside of it.
    if (process && process->boot == boot_id() && process->space != process_space()) continue;
    const bool seen = seen_to_end && seen_to_end(run);
    ledger_->record_cut_off(run.id, seen
                                        ? "it was cut off: its process ended without a word"
                                        : "it was cut off: its process was killed, or the machine went down");
    if (seen) continue;
    for (DueLine& line : book_.of_run(run.id)) {
      line.fate = DueFate::waiting;
      line.reason = DueReason::cut_off;
      line.late = true;
      line.run.reset();
      line.start = 0;
      book_.update(line);
    }
  }
}

bool DueDesk::made_up_by_hand(DueLine& line, std::vector<RunEntry> runs) {
  if (auto added = added_changes_.find(line.job);
      added != added_changes_.end() && added->second.when == line.when)
    std::erase_if(runs, [&](const RunEntry& run) { return run.id <= added->second.newest_run; });
  const RunEntry* run = made_up_by(line, runs, context_.clock.now());
  if (run == nullptr) return false;
  line.fate = DueFate::ran;
  line.run = run->id;
  // A person who began it at its time has kept that time.
  line.late = run->started.seconds - line.when.seconds > in_time_seconds;
  line.own = !line.late && book_.of_run(run->id).empty();
  line.start = 0;
  book_.update(line);
  return true;
}

std::vector<DueLine> DueDesk::give_up(std::vector<DueLine> waiting, DueReason reason) {
  std::vector<DueLine> left;
  for (DueLine& line : waiting) {
    if (reason == DueReason::not_watching && !line.late) {
      left.push_back(line);
      continue;
    }
    line.fate = line.reason == DueReason::not_watching ? DueFate::missed : DueFate::skipped;
    if (!makes_late(line.reason)) line.reason = reason;
    book_.update(line);
  }
  return left;
}

void DueDesk::wait(const std::string& job, std::vector<DueLine>& waiting, const DueWait& how) {
  DueWait& wait = waits_[job] = how;
  wait.since = waiting.front().first;
  for (DueLine& line : waiting) {
    // Why it is late is worth more than that it settles now.
    const bool better = !line.late || makes_late(how.reason);
    if (!better || line.reason == how.reason) continue;
    line.reason = how.reason;
    line.late = line.late || makes_late(how.reason);
    book_.update(line);
  }
}

// The job may start, if its drive is there and nobody writes to it.
std::optional<DueStart> DueDesk::start_or_wait(const DeskJob& job, std::vector<DueLine>& waiting,
                                               const std::set<std::string>& held) {
  const Job& definition = job.in_force->job;
  const Reach reach = reach_of(definition, context_);
  if (reach.is_away()) {
    if (!definition.catch_up) {
      give_up(std::move(waiting), DueReason::drive);
      return std::nullopt;
    }
    DueWait drive{.reason = DueReason::drive, .since = {}, .look_again = {}, .drive = reach.drive};
    if (definition.mount_for_run || !DestinationAddress::parse(reach.drive).names_drive())
      drive.look_again = later(context_.clock.now(), look_for_paths_seconds);
    wait(job.name, waiting, drive);
    return std::nullopt;
  }
  auto is_held = [&](const std::string& place) { return held.contains(place); };
  if (std::any_of(reach.into.begin(), reach.into.end(), is_held)) {
    wait(job.name, waiting, {DueReason::busy, {}, {}, {}});
    return std::nullopt;
  }
  DueStart start{job.name, book_.prepare_start(waiting), {}, reach.into};
  for (const DueLine& line : waiting) start.moments.push_back(line.when);
  return start;
}

StartQuestion start_question(const Job& job, const RunContext& context) {
  StartQuestion question{.catch_up = job.catch_up, .window = job.window, .now = context.clock.now()};
  question.pause = load_steering(context.home, job.name).pause;
  return question;
}

// But for what waits.
StartQuestion DueDesk::question_of(const DeskJob& job, bool going) const {
  StartQuestion question = start_question(job.in_force->job, context_);
  question.running = going;
  question.settled = settled();
  question.not_before = backoff_.not_before(job.name, question.now);
  return question;
}

std::optional<DueStart> DueDesk::decide_job(const DeskJob& job, const std::set<std::string>& held,
                                            bool going) {
  std::vector<DueLine> waiting = book_.waiting(job.name);
  // A start is on its way.
  if (waiting.empty() || waiting.back().start != 0) return std::nullopt;
  constexpr int enough = 50;
  const std::vector<RunEntry> runs = ledger_->runs(job.name, enough);
  std::erase_if(waiting, [&](DueLine& line) { return made_up_by_hand(line, runs); });
  StartQuestion question = question_of(job, going);
  question.held_back = held_back_now(job.in_force->job);
  while (true) {
    question.waiting.clear();
    for (const DueLine& line : waiting) question.waiting.push_back({line.when, line.late});
    const StartDecision decision = decide_start(question);
    switch (decision.what) {
      case StartDecision::What::nothing:
        return std::nullopt;
      case StartDecision::What::wait:
        wait(job.name, waiting, {decision.reason, {}, decision.look_again, {}});
        return std::nullopt;
      case StartDecision::What::give_up:
        waiting = give_up(std::move(waiting), decision.reason);
        break;
      case StartDecision::What::start:
        return start_or_wait(job, waiting, held);
    }
  }
}

std::vector<DueStart> DueDesk::decide(const std::set<std::string>& held, const std::set<std::string>& going,
                                      std::size_t most) {
  waits_.clear();
  std::set<std::string> taken = held;
  std::vector<DueStart> starts;
  // Who has waited longest is first.
  std::vector<std::pair<Instant, std::string>> order;
  for (const DueLine& line : book_.waiting()) {
    if (order.empty() || order.back().second != line.job) order.emplace_back(line.when, line.job);
  }
  std::sort(order.begin(), order.end());
  for (const auto& [since, name] : order) {
    auto job = jobs_.find(name);
    if (job == jobs_.end() || !job->second.in_force) continue;
    const bool full = starts.size() >= most;
    std::optional<DueStart> start = decide_job(job->second, taken, full || going.contains(name));
    if (!start) continue;
    taken.insert(start->into.begin(), start->into.end());
    starts.push_back(std::move(*start));
  }
  return starts;
}

std::vector<std::string> DueDesk::places_of(const std::string& job) const {
  auto found = jobs_.find(job);
  return found == jobs_.end() || !found->second.in_force
             ? std::vector<std::string>()
             : reach_of(found->second.in_force->job, context_).into;
}

void DueDesk::start_ended(const DueStart& start, int exit_code) {
  const bool again = exit_code == exit_code_of(ErrorKind::no_destination) ||
                     exit_code == exit_code_of(ErrorKind::busy) || exit_code > by_signal;
  if (again) {
    backoff_.came_to_nothing(start.job, context_.clock.now());
  } else {
    backoff_.began(start.job);
  }
  for (DueLine& line : book_.waiting(start.job)) {
    if (line.start != start.start) continue;
    line.start = 0;
    if (!again) {
      // Without a word of it in the ledger, but made.
      line.fate = exit_code <= exit_problems ? DueFate::ran : DueFate::skipped;
      if (line.fate == DueFate::skipped) line.reason = DueReason::not_started;
    }
    book_.update(line);
  }
}

std::optional<Instant> DueDesk::next_moment() const {
  std::optional<Instant> next;
  const Instant now = context_.clock.now();
  auto earlier = [&](std::optional<Instant> when) {
    if (when && (!next || *when < *next)) next = when;
  };
  for (const auto& [name, job] : jobs_) {
    if (std::optional<DueMoment> due = next_due(job.times, now)) earlier(due->when);
  }
  for (const auto& [name, wait] : waits_) earlier(wait.look_again);
  return next;
}

void count_times(const Home& home, const Job& job, Instant now) {
  try {
    Ledger ledger(home.ledger_path());
    DueBook book(ledger);
    counted_times(book, job.name, times_of(job), now, false);
    counted_times(book, CheckBook::times_of(job.name, CheckKind::check), check_times_of(job), now, false);
    counted_times(book, CheckBook::times_of(job.name, CheckKind::drill), drill_times_of(job), now, false);
  } catch (const Error&) {
    // Who keeps the ledger tells of it.
  }
}

std::vector<DueMade> due_made(Ledger& ledger, const std::string& job, std::size_t most, Instant now) {
  std::vector<DueMade> all;
  for (DueLine& line : DueBook(ledger).lines(job, most, now)) {
    std::optional<RunEntry> run = line.run ? ledger.run_by_id(*line.run) : std::nullopt;
    all.push_back({std::move(line), std::move(run)});
  }
  return all;
}

void settle_due(Ledger& ledger, const std::vector<RunOutcome>& outcomes, bool stopped_for_good) {
  if (outcomes.empty() || outcomes.front().entry.id == 0) return;
  DueBook book(ledger);
  const RunOutcome* counts = outcome_that_counts(outcomes);
  DueReason again = DueReason::none;
  if (counts->error) {
    const ErrorKind kind = counts->error->kind();
    if (kind == ErrorKind::stopped && !stopped_for_good) again = DueReason::cut_off;
    if (kind == ErrorKind::no_destination || kind == ErrorKind::not_reachable) again = DueReason::drive;
    if (kind == ErrorKind::busy) again = DueReason::busy;
  }
  for (DueLine& line : book.of_run(outcomes.front().entry.id)) {
    line.start = 0;
    line.run = counts->entry.id;
    if (again != DueReason::none) {
      line.fate = DueFate::waiting;
      line.reason = again;
      line.late = line.late || makes_late(again);
      line.run.reset();
    }
    book.update(line);
  }
}

}  // namespace kestrum
