#include "engine/upkeep.hpp"

#include <algorithm>

#include "archive/set_check.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/look.hpp"
#include "engine/unfinished_folder.hpp"

namespace kestrum {

Upkeep::Upkeep(const Job& job, Destination& destination, JobState& state, KeyRing& keys, Ledger* ledger,
               const RunContext& context, const JobLock* lock)
    : job_(job),
      destination_(destination),
      state_(state),
      keys_(keys),
      ledger_(ledger),
      context_(context),
      lock_(lock) {}

std::vector<FoundSet> Upkeep::sets() const {
  return read_sets(*destination_.store, destination_.folder, destination_.identity->job);
}

void Upkeep::finish_folds() {
  for (const FoundSet& set : sets()) {
    if (!set.sealed() || set.covered.empty()) continue;
    SecretKey master = keys_.unlock(set.seal->keys, set.seal->core.facts.chain);
    SetReader authentic(*destination_.store, set, master);  // damage when it is not
    // The first covered set is marked only after the check; a seal that is missing proves nothing.
    bool begun = std::any_of(set.covered.begin(), set.covered.end(),
                             [](const SetFolder& folder) { return folder.removing; });
    lock_->check();
    if (begun) {
      finish_fold(*destination_.store, set);
      context_.observer.note("completed the folding into set " + std::to_string(set.folder.sequence));
    } else {
      remove_set_folder(*destination_.store, set.folder);
      context_.observer.note("took back an interrupted folding into set " +
                             std::to_string(set.folder.sequence));
    }
  }
}

KeepQuestion Upkeep::question(std::uint64_t make_room) {
  KeepQuestion question;
  question.rules = job_.keep;
  question.endless = job_.renew.never();
  question.may_fold = may_fold_;
  question.now = context_.clock.now();
  question.make_room = make_room;
  StoreSpace space = destination_.store->space();
  question.total = space.total;
  question.free = space.free;
  if (context_.clock.simulated() && !destination_.drive->simulated)
    question.hold = "the clock is simulated, and this drive was not made under such a clock";
  ChainReader chain = open_chain();
  std::set<Id> closed;  // chains
  for (const PointInfo& info : judge_points(*destination_.store, chain.sets(), ledger_)) {
    if (!info.sealed || closed.contains(info.facts.chain)) continue;
    try {
      if (chain.try_set(info.sequence) == nullptr) continue;  // not ours
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key) throw;
      closed.insert(info.facts.chain);
      context_.observer.note("the chain of point " + std::to_string(info.sequence) +
                             " does not open with the key at hand: it is left alone");
      continue;
    }
    question.sets.push_back({.facts = info.facts, .good = info.good(), .suspect = false});
  }
  // What needs a set that is not ours counts for nothing.
  for (KeptSet& set : question.sets) {
    for (const SetNeed& need : set.facts.needs)
      set.good = set.good && met_by(question.sets, need, set.facts.chain) != nullptr;
  }
  return question;
}

std::int64_t Upkeep::room() {
  std::uint64_t job_bytes = 0;
  for (const FoundSet& set : sets()) job_bytes += set.sealed() ? set.seal->core.facts.totals.stored_bytes : 0;
  StoreSpace space = destination_.store->space();
  return room_left(acting_rules(job_.keep), job_bytes, space.total, space.free);
}

UpkeepResult Upkeep::prune(std::uint64_t make_room) {
  UpkeepResult result;
  std::optional<std::uint64_t> before;
  std::size_t most_rounds = 0;
  may_fold_ = true;
  while (true) {
    KeepQuestion asked = question(make_room);
    result.job_bytes = 0;
    for (const KeptSet& set : asked.sets) result.job_bytes += set.facts.totals.stored_bytes;
    if (!before) {
      before = result.job_bytes;
      most_rounds = asked.sets.size() + 2;
    }
    KeepPlan plan = plan_keep(asked);
    result.rounds.push_back(plan);
    result.points_left = plan.points_left;
    // Each round takes a point away, so that there is an end.
    if (plan.empty() || result.rounds.size() > most_rounds) break;
    for (const KeepStep& step : plan.steps) {
      check_stop(context_.observer);
      if (!step.fold) {
        remove(step.first);
        ++result.removed;
        continue;
      }
      try {
        result.folded += fold(step.first, step.last);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::full && error.kind() != ErrorKind::damage) throw;
        // No loss: the sets are as they were. What can be done without folding is done.
        may_fold_ = false;
        result.damaged = error.kind() == ErrorKind::damage;
        if (result.damaged) learn_damage(step.first, step.last);
        result.unfolded = error.what();
        context_.observer.note("not folded: " + result.unfolded);
        break;
      }
    }
  }
  result.freed_bytes = *before > result.job_bytes ? *before - result.job_bytes : 0;
  return result;
}

void Upkeep::learn_damage(Sequence first, Sequence last) {
  if (ledger_ == nullptr) return;
  ChainReader chain = open_chain();
  for (const FoundSet& set : chain.sets()) {
    if (!set.sealed() || set.folder.sequence < first || set.folder.sequence > last) continue;
    SetReader* reader = chain.try_set(set.folder.sequence);
    if (reader == nullptr) continue;
    CheckOptions options{
        .deep = true, .drop_cache = true, .own_only = false, .progress = fold_context(chain).step};
    SetFindings found = check_set(*reader, options);
    if (found.findings.empty()) continue;
    for (const std::string& finding : found.findings) context_.observer.note("damage: " + finding);
    ledger_->add_check(
        reader->facts().set,
        {.when = context_.clock.now(), .depth = "all", .good = false, .lost = found.places, .affected = {}});
  }
}

void Upkeep::remove(Sequence sequence) {
  for (const FoundSet& set : sets()) {
    if (!set.sealed() || set.folder.sequence != sequence) continue;
    lock_->check();
    remove_set_folder(*destination_.store, set.folder);
    context_.observer.note("removed set " + set.folder.name);
    return;
  }
}

FoldContext Upkeep::fold_context(ChainReader& chain) {
  return {chain, [this](std::uint64_t bytes) {
            check_stop(context_.observer);
            if (bytes > 0) context_.observer.advanced(bytes, 0);
          }};
}

FoldPlan Upkeep::fold_plan(Sequence first, Sequence last) {
  ChainReader chain = open_chain();
  ReachableChunks reachable;
  return plan_fold(fold_context(chain), first, last, reachable);
}

std::uint64_t Upkeep::fold(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told) {
  std::uint64_t gone = 0;
  while (true) {
    FoldPlan plan = fold_batch(first, last, told);
    gone += plan.sets.size() - 1;
    if (plan.last == last) return gone;
  }
}

FoldPlan Upkeep::fold_batch(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told) {
  ChainReader chain = open_chain();
  // Within the limits; only where they are overrun already (somebody has lowered them, or other data has
  // grown) there is no other way back below them than over them.
  std::int64_t within = room();
  std::uint64_t free = destination_.store->space().free;
  std::uint64_t allowed = within >= 0 ? static_cast<std::uint64_t>(within) : free;
  std::uint64_t needed = 0;
  for (Sequence end = last;;) {
    ReachableChunks reachable;
    FoldPlan plan = plan_fold(fold_context(chain), first, end, reachable, allowed);
    needed = plan.needed_bytes();
    if (needed <= allowed) {
      if (told) told(plan);
      carry_out_fold(chain, plan, reachable);
      return plan;
    }
    if (plan.sets.size() < 3) break;
    end = plan.sets[plan.sets.size() / 2];
  }
  throw Error(ErrorKind::full,
              "folding needs " + size_text(needed) + " for a while, and " + size_text(allowed) +
                  " may be used in " + printable(destination_.root) +
                  (allowed < free ? ", by the limits of [keep]" : ""),
              "make room on the drive; the sets are as they were");
}

bool Upkeep::was_proved(const ChainReader& chain, const FoldPlan& plan) {
  return ledger_ != nullptr && std::all_of(plan.sets.begin(), plan.sets.end(), [&](Sequence sequence) {
           std::optional<CheckEntry> check =
               ledger_->last_check(chain.sealed(sequence)->seal->core.facts.set);
           return check && check->good;
         });
}

void Upkeep::carry_out_fold(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable) {
  Store& store = *destination_.store;
  const FoundSet newest = *chain.sealed(plan.last);
  const SetFacts& facts = newest.seal->core.facts;
  context_.observer.phase_begins(Phase::folding, {plan.copied_bytes, 0});
  SecretKey master = keys_.unlock(newest.seal->keys, facts.chain);
  Kind kind = chain.set(plan.sets.front()).facts().kind;
  Sequence from = chain.set(plan.sets.front()).facts().covers_from();
  bool proved = was_proved(chain, plan);
  UnfinishedFolder folder(store, destination_.folder,
                          set_folder_name(plan.last, facts.started, facts.offset_seconds, kind, from));
  store.reserve(folder.path() + "/" + reserve_name, seal_reserve_bytes);
  std::uint64_t volume_bytes = job_.volume_bytes;
  if (destination_.facts.largest_file)
    volume_bytes = std::min(volume_bytes, *destination_.facts.largest_file);
  SetWriterOptions options;
  options.level = job_.level;
  options.volume_bytes = volume_bytes;
  options.workers = context_.workers;
  options.scratch_folder = context_.home.scratch_folder();
  FoldContext fold = fold_context(chain);
  FoldedSet folded = write_fold(fold, plan, reachable, store, folder.path(), master, options);
  check_stop(context_.observer);
  lock_->check();
  try {
    seal_set(store, folded.identity, folded.seal, master);
  } catch (...) {
    if (is_sealed(store, folded.identity.folder)) folder.keep();  // the next run takes it back
    throw;
  }
  folder.keep();

  for (const FoundSet& set : sets()) {
    if (!set.sealed() || set.seal->core.facts.set != folded.identity.set) continue;
    context_.observer.phase_begins(Phase::checking, {plan.copied_bytes, 0});
    SetReader reader(store, set, master);
    std::vector<std::string> findings;
    try {
      findings = check_fold(fold, plan, reachable, reader);
    } catch (...) {
      remove_set_folder(store, set.folder);
      throw;
    }
    lock_->check();
    if (!findings.empty()) {
      remove_set_folder(store, set.folder);
      throw damage("the folded set does not read back as it was written: " + findings[0]);
    }
    count_on(set, proved);
    finish_fold(store, set);
    context_.observer.note("folded points " + std::to_string(plan.first) + " to " +
                           std::to_string(plan.last) + " into one: " + size_text(plan.stored_bytes) +
                           " became " + size_text(set.seal->core.facts.totals.stored_bytes));
    return;
  }
  throw damage("the folded set that was just sealed does not read");
}

// The folded set takes the place of the newest one in what this machine remembers.
void Upkeep::count_on(const FoundSet& folded, bool proved) {
  if (ledger_ != nullptr && proved)
    ledger_->add_check(
        folded.seal->core.facts.set,
        {.when = context_.clock.now(), .depth = "all", .good = true, .lost = {}, .affected = 0});
  bool newest = true;
  for (const FoundSet& set : sets()) newest = newest && set.folder.sequence <= folded.folder.sequence;
  if (!newest) return;
  state_.use(destination_.drive->id, destination_.named).newest_core = folded.seal->core_digest;
  context_.home.save_state(job_.name, state_);
}

std::string upkeep_text(const UpkeepResult& result) {
  std::vector<std::string> parts;
  if (result.removed > 0) parts.push_back("removed " + count_text(result.removed, "point"));
  if (result.folded > 0) parts.push_back("folded " + count_text(result.folded, "point") + " into others");
  if (parts.empty()) return "nothing to remove";
  return join(parts, ", ") + ", freed " + size_text(result.freed_bytes);
}

}  // namespace kestrum
