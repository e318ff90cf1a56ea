#include "engine/schedule.hpp"

#include <algorithm>
#include <cstring>

#include "base/exit_codes.hpp"
#include "engine/outlook.hpp"
#include "engine/reach.hpp"

namespace kestrum {
namespace {

constexpr std::size_t most_runs = 2000;

// The kinds of a job's coming runs, one after the other.
class Kinds {
 public:
  Kinds(const Job& job, const RunContext& context) : job_(job) {
    try {
      SubjectOptions options;
      options.subject = job.name;
      options.open_store = context.open_store;
      LookSession session = LookSession::open(&context.home, options);
      History none;
      for (const KeptSet& set : kept_sets(list_points(session, &none).points))
        sets_.push_back({.facts = set.facts, .damaged = !set.good});
      known_ = true;
    } catch (const Error&) {
      // The drive is not there, or has no set of the job yet.
      known_ = !reach_of(job, context).trouble;
    }
  }

  std::optional<Kind> next(Instant when) {
    if (!known_) return std::nullopt;
    const KindDecision decision =
        decide_by_time({job_.kind, job_.renew}, sets_, ProtectionChange::none, times_of(job_), when);
    SetFacts facts;
    facts.sequence = sets_.empty() ? 1 : sets_.back().facts.sequence + 1;
    // Any number that no other set has.
    const std::uint64_t number = ++made_;
    std::memcpy(facts.set.data(), &number, sizeof number);
    facts.chain = decision.chain.value_or(facts.set);
    facts.kind = decision.kind;
    facts.base = decision.base;
    facts.started = when;
    if (decision.base) {
      facts.needs = new_needs(decision, sets_).direct;
      facts.needs_follow = true;
    }
    sets_.push_back({.facts = facts});
    return decision.kind;
  }

 private:
  const Job& job_;
  std::vector<ChainSet> sets_;
  std::uint64_t made_ = 0;
  bool known_ = false;
};

std::vector<std::string> names_or_all(std::vector<std::string> names, const Home& home) {
  for (const std::string& name : names) {
    if (!home.has_job(name)) home.load_job(name);  // says which there are
  }
  return names.empty() ? home.job_names() : names;
}

// Runs to one drive follow each other: who was due first goes first.
void queue_up(std::vector<ComingRun>& runs, const std::map<std::string, std::vector<std::string>>& places) {
  std::stable_sort(runs.begin(), runs.end(),
                   [](const ComingRun& a, const ComingRun& b) { return a.starts < b.starts; });
  struct Busy {
    Instant until;
    std::string job;
  };
  std::map<std::string, Busy> busy;
  for (ComingRun& run : runs) {
    auto where = places.find(run.job);
    if (where == places.end()) continue;
    for (const std::string& place : where->second) {
      auto found = busy.find(place);
      if (found == busy.end() || found->second.until <= run.starts) continue;
      run.starts = found->second.until;
      run.behind = found->second.job;
    }
    for (const std::string& place : where->second)
      busy[place] = {{run.starts.seconds + run.takes.value_or(std::chrono::seconds(0)).count(), 0}, run.job};
  }
  std::stable_sort(runs.begin(), runs.end(),
                   [](const ComingRun& a, const ComingRun& b) { return a.starts < b.starts; });
}

}  // namespace

std::optional<std::chrono::seconds> usual_length(const std::vector<RunEntry>& runs,
                                                 std::optional<Kind> kind) {
  constexpr std::size_t enough = 9;
  std::vector<std::int64_t> seconds;
  for (const RunEntry& run : runs) {
    if (seconds.size() == enough) break;
    if (!run.ended || run.exit_code > exit_problems || (kind && run.kind != kind)) continue;
    seconds.push_back(
        std::chrono::duration_cast<std::chrono::seconds>(between(run.started, *run.ended)).count());
  }
  if (seconds.empty()) return std::nullopt;
  std::sort(seconds.begin(), seconds.end());
  return std::chrono::seconds(std::max<std::int64_t>(seconds[seconds.size() / 2], 1));
}

// A job's coming runs. False: it has no times in these days.
static bool add_runs(const DeskJob& job, const std::optional<Pause>& pause, std::pair<Instant, Instant> days,
                     Ledger& ledger, const RunContext& context, std::vector<ComingRun>& out) {
  const DueMoments due = due_between(job.times, days.first, days.second, most_runs);
  if (due.moments.empty()) return false;
  if (pause && !pause->until) return true;
  const Job& definition = job.in_force->job;
  Kinds kinds(definition, context);
  constexpr int enough = 100;
  const std::vector<RunEntry> runs = ledger.runs(job.name, enough);
  std::optional<Instant> last;
  for (const DueMoment& moment : due.moments) {
    const bool paused = pause && moment.when < *pause->until;
    if (paused && !definition.catch_up) continue;
    const std::optional<Instant> opens = definition.window.opens(paused ? *pause->until : moment.when);
    // What waits for the same moment is one run.
    if (!opens || opens == last) continue;
    last = opens;
    const std::optional<Kind> kind = kinds.next(*opens);
    out.push_back({job.name, moment.when, *opens, moment.phrase, kind, usual_length(runs, kind), {}});
  }
  return true;
}

Schedule coming_runs(const std::vector<std::string>& names, unsigned days, const RunContext& context) {
  Schedule schedule;
  DueDesk desk(context, DueDesk::OnlyLook{});
  desk.read_jobs(true);
  const std::vector<std::string> all = names_or_all(names, context.home);
  std::map<std::string, DueLook> looks = desk.look_ahead();
  for (const auto& [name, look] : looks) {
    if (std::find(all.begin(), all.end(), name) == all.end()) continue;
    if (look.wait) schedule.waiting[name] = *look.wait;
    if (look.pause) schedule.paused[name] = *look.pause;
  }
  const Instant now = context.clock.now();
  const Instant end = after(now, {days, Span::Unit::day});
  std::map<std::string, std::vector<std::string>> places;
  for (const std::string& name : all) {
    auto found = desk.jobs().find(name);
    if (found == desk.jobs().end() || !found->second.in_force) continue;
    places[name] = desk.places_of(name);
    if (!add_runs(found->second, looks[name].pause, {now, end}, desk.ledger(), context, schedule.runs))
      schedule.without.push_back(name);
  }
  queue_up(schedule.runs, places);
  schedule.cut = schedule.runs.size() > most_runs;
  if (schedule.cut) schedule.runs.resize(most_runs);
  return schedule;
}

}  // namespace kestrum
