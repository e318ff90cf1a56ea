#include "engine/outlook.hpp"

#include "engine/preview.hpp"

namespace kestrum {
namespace {

std::vector<ChainSet> chain_sets(const std::vector<KeptSet>& sets) {
  std::vector<ChainSet> out;
  for (const KeptSet& set : sets) {
    if (!set.closed) out.push_back({.facts = set.facts, .damaged = !set.good});
  }
  return out;
}

// The set that the next run would make, as far as the plans look at it.
KeptSet next_set(const Outlook& out, const std::vector<PointInfo>& points, Instant when) {
  SizeModel sizes = size_model(out.sets, 0);
  KeptSet next;
  next.facts.sequence = points.empty() ? 1 : points.back().sequence + 1;
  next.facts.set[0] = 1;
  next.facts.chain = out.next.chain.value_or(next.facts.set);
  next.facts.kind = out.next.kind;
  next.facts.base = out.next.base;
  if (out.next.base) {
    next.facts.needs = new_needs(out.next, chain_sets(out.sets)).direct;
    next.facts.needs_follow = true;
  }
  next.facts.started = when;
  next.facts.totals.stored_bytes = sizes.full_bytes;
  if (out.next.base)
    next.facts.totals.stored_bytes = sizes.changed_bytes(
        std::chrono::duration<double>(between(out.next.base_started, when)).count() / 86400);
  return next;
}

}  // namespace

std::vector<KeptSet> kept_sets(const std::vector<PointInfo>& points) {
  std::vector<KeptSet> out;
  for (const PointInfo& info : points) {
    if (!info.sealed) continue;
    out.push_back({.facts = info.facts,
                   .good = info.good() || info.health == Health::suspect,
                   .suspect = info.facts.doubted(),
                   .closed = info.closed});
    // What a person has rejected is evidence: it stays until a person lets it go.
    Standing& standing = out.back().facts.standing;
    if (info.facts.guard == GuardMark::rejected && standing.is == Standing::Is::by_rules)
      standing = {Standing::Is::kept, "rejected by a person, and kept as evidence", info.facts.ended};
  }
  return out;
}

Outlook look_ahead(const Job& job, const std::vector<PointInfo>& points, const StoreSpace& space,
                   Instant now) {
  Outlook out;
  out.sets = kept_sets(points);
  std::vector<Occurrence> coming = next_times(times_of(job), now, 1);
  if (!coming.empty()) out.when = coming[0].when;
  Instant when = out.when.value_or(now);
  out.next = decide_by_time({job.kind, job.renew}, chain_sets(out.sets), ProtectionChange::none,
                            times_of(job), when);
  out.unsure = std::any_of(points.begin(), points.end(), [&](const PointInfo& info) {
    return info.sealed && out.next.base == info.facts.sequence && !info.good();
  });
  KeptSet next = next_set(out, points, when);
  std::uint64_t bytes = next.facts.totals.stored_bytes;
  out.sets.push_back(std::move(next));
  KeepQuestion question;
  question.rules = job.keep;
  question.endless = job.renew.never();
  question.sets = out.sets;
  question.now = when;
  question.total = space.total;
  question.free = space.free - std::min(space.free, bytes);
  out.after = plan_keep(question);
  return out;
}

// As the drive and the job are now; the sizes are not told yet.
static ForecastQuestion forecast_question(const LookSession& session, History& history,
                                          const RunContext& context) {
  const Job& job = *session.job();
  ForecastQuestion question;
  question.kind = job.kind;
  question.renew = job.renew;
  question.keep = job.keep;
  question.now = context.clock.now();
  StoreSpace space = session.store().space();
  question.total = space.total;
  question.free = space.free;
  question.other_jobs = list_jobs_at(session.store()).size() > 1;
  for (const Phrase& phrase : job.runs) {
    if (next_time(phrase, question.now)) question.runs.push_back(phrase);
  }
  question.sets = kept_sets(own_points(session, &history));
  return question;
}

// Sets of before say nothing of parity that the job has only now.
static void add_new_parity(const SetList& sets, const Job& job, SizeModel& sizes) {
  const FoundSet* const newest = sets.newest();
  if (newest == nullptr || !newest->seal->parity.empty()) return;
  const double more = 1 + job.parity_percent / 100.0;
  const auto grown = [&](std::uint64_t bytes) {
    return static_cast<std::uint64_t>(static_cast<double>(bytes) * more);
  };
  sizes.full_bytes = grown(sizes.full_bytes);
  sizes.change_a_day *= more;
  sizes.growth_a_day *= more;
}

JobForecast forecast_job(const std::string& name, unsigned days, const RunContext& context) {
  Job job = context.home.load_job(name);
  std::optional<JobState> state = context.home.load_state(name);
  DestinationChoice choice = choose_destinations(job, state, context.machine, context.open_store);
  if (choice.trouble) throw *choice.trouble;
  LookSession session(job, choice.use.front(), state, context, job_keys(job, context.ask));
  History history = History::open(context);
  JobForecast out;
  out.job = name;
  out.root = session.root();
  out.question = forecast_question(session, history, context);
  out.scheduled = !out.question.runs.empty();
  out.question.days = days;
  const std::vector<KeptSet>& sets = out.question.sets;
  bool any_full =
      std::any_of(sets.begin(), sets.end(), [](const KeptSet& set) { return set.facts.kind == Kind::full; });
  std::uint64_t first_full = any_full ? 0 : preview_job(name, Kind::full, context).estimate.stored_bytes;
  out.question.sizes = size_model(sets, first_full);
  add_new_parity(session.sets(), job, out.question.sizes);
  out.scenarios = forecast_side_by_side(out.question);
  return out;
}

}  // namespace kestrum
