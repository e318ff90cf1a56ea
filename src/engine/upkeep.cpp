#include "engine/upkeep.hpp"

#include <algorithm>
#include <thread>

#include "archive/set_check.hpp"
#include "base/text.hpp"
#include "engine/guard.hpp"
#include "engine/leftover_use.hpp"
#include "engine/outlook.hpp"
#include "engine/unfinished_folder.hpp"
#include "plan/plan_words.hpp"

namespace kestrum {
namespace {

std::uint64_t stored_bytes(const std::vector<KeptSet>& sets) {
  std::uint64_t bytes = 0;
  for (const KeptSet& set : sets) bytes += set.facts.totals.stored_bytes;
  return bytes;
}

// Of a set that holds a point of the job's, whether or not its key is at hand; else nullptr.
const Seal* seal_that_counts(const FoundSet& set) {
  if (set.sealed()) return &*set.seal;
  return set.not_ours == NotOurs::closed ? &*set.left_out : nullptr;
}

const FoundSet* that_counts(const SetList& sets, Sequence sequence) {
  for (const FoundSet& set : sets) {
    if (seal_that_counts(set) != nullptr && set.folder.sequence == sequence) return &set;
  }
  return nullptr;
}

std::uint64_t stored_in(const SetList& sets) {
  std::uint64_t bytes = 0;
  for (const FoundSet& set : sets) {
    if (const Seal* seal = seal_that_counts(set)) bytes += seal->core.facts.totals.stored_bytes;
  }
  return bytes;
}

FoldContext fold_context(ChainReader& chain, const RunContext& context) {
  return {chain, [&context](std::uint64_t bytes) {
            context.control.checkpoint();
            if (bytes > 0) context.observer.advanced(bytes, 0);
          }};
}

}  // namespace

SetWriterOptions sizes_on(const Job& job, std::uint64_t total) {
  SetWriterOptions options;
  options.level = job.level;
  options.parity_percent = job.parity_percent;
  options.volume_bytes = job.volume_bytes;
  const bool folds = job.renew.never() || !job.keep.thin.empty();
  if (!folds || total == 0) return options;
  constexpr std::uint64_t least = 256u << 10;
  const std::uint64_t step = std::max(least, total / 64);
  options.volume_bytes = std::min(options.volume_bytes, step);
  options.frame_bytes = std::min<std::size_t>(options.frame_bytes, step);
  return options;
}

KeepQuestion keep_question(const LookSession& session, History& history, const RunContext& context,
                           std::uint64_t make_room) {
  const Job& job = *session.job();
  KeepQuestion question;
  question.rules = job.keep;
  question.endless = job.renew.never();
  question.now = context.clock.now();
  question.make_room = make_room;
  StoreSpace space = session.store().space();
  question.total = space.total;
  question.free = space.free;
  question.other_jobs = list_jobs_at(session.store()).size() > 1;
  question.reserve = fold_reserve(job.keep, job.renew.never(), stored_in(session.sets()));
  if (context.clock.simulated() && !session.destination().drive->simulated)
    question.hold = Hold::simulated_clock;
  if (any_suspect(session.sets())) question.hold = Hold::suspect_point;
  question.sets = kept_sets(own_points(session, &history));
  if (const std::optional<Leftover> left = leftover_that_reads(session)) question.beside = left->bytes;
  return question;
}

void leave_out_unproved(KeepQuestion& question, ChainReader& chain, Observer& observer) {
  std::set<Id> closed;  // chains
  std::set<Id> unproved;
  for (KeptSet& set : question.sets) {
    if (set.closed || closed.contains(set.facts.chain)) {
      set.closed = true;
      continue;
    }
    try {
      if (chain.try_set(set.facts.sequence) == nullptr) unproved.insert(set.facts.set);  // not ours
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key) throw;
      closed.insert(set.facts.chain);
      set.closed = true;
      observer.note("the chain of point " + std::to_string(set.facts.sequence) +
                    " does not open with the key at hand: it goes by the rules, and is never folded");
    }
  }
  // What needs a set that is not ours counts for nothing.
  const SetNeeds& needs = chain.sets().needs();
  for (KeptSet& set : question.sets) {
    for (std::size_t place : needs.closure(set.facts).met)
      set.good = set.good && !unproved.contains(needs.facts(place).set);
  }
  std::erase_if(question.sets, [&](const KeptSet& set) { return unproved.contains(set.facts.set); });
}

FoldPlan look_at_fold(const LookSession& session, const RunContext& context, Sequence first, Sequence last,
                      const FoldRoom& room) {
  ChainReader chain(session.store(), session.sets(), session.keys());
  ReachableChunks reachable;
  return plan_fold(fold_context(chain, context), first, last, reachable, room);
}

Upkeep::Upkeep(WriteSession& session, History& history)
    : session_(session), history_(history), context_(session.context()) {}

KeepQuestion Upkeep::ask(std::uint64_t make_room) const {
  KeepQuestion question = keep_question(session_, history_, context_, make_room);
  question.may_fold = may_fold_;
  question.by_hand = by_hand_;
  question.spare_promises = spare_promises_;
  question.room_is_late = late_;
  question.fold_yield = fold_yield_;
  return question;
}

KeepQuestion Upkeep::question(std::uint64_t make_room) {
  KeepQuestion question = ask(make_room);
  ChainReader chain = open_chain();
  leave_out_unproved(question, chain, context_.observer);
  return question;
}

// By the seals' word first: where nothing would go even then, no key is needed to know it. Sets that are left
// out can only make less go.
KeepPlan Upkeep::plan(std::uint64_t make_room, KeepQuestion& asked) {
  asked = ask(make_room);
  KeepPlan plan = plan_keep(asked);
  if (plan.empty()) return plan;
  {
    ChainReader chain = open_chain();
    leave_out_unproved(asked, chain, context_.observer);
  }
  return measured(plan_keep(asked), asked);
}

// What folding a plan's ranges really frees, by their indexes.
std::uint64_t Upkeep::frees_by_folding(const KeepPlan& plan) const {
  std::uint64_t frees = 0;
  for (const KeepStep& step : plan.steps) {
    if (!step.fold) continue;
    frees +=
        look_at_fold(session_, context_, step.first, step.last, fold_room(plan.by_folding)).frees_bytes();
  }
  return frees;
}

KeepPlan Upkeep::measured(KeepPlan plan, KeepQuestion& asked) {
  try {
    plan = kestrum::measured(std::move(plan), asked,
                             [this](const KeepPlan& one) { return frees_by_folding(one); });
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage) throw;
    plan = plan_keep(asked);  // carrying it out finds the damage, and goes on without folding
  }
  fold_yield_ = asked.fold_yield;
  return plan;
}

std::int64_t Upkeep::room(std::uint64_t freed) {
  std::uint64_t job_bytes = stored_in(session_.sets());
  StoreSpace space = session_.store().space();
  return room_for_run(acting_rules(session_.own_job().keep), job_bytes, space.total, space.free, freed,
                      fold_reserve(session_.own_job().keep, session_.own_job().renew.never(), job_bytes));
}

std::string Upkeep::over_share(const KeepPlan& plan) {
  if (!plan.out_of_reach) return {};
  StoreSpace space = session_.store().space();
  std::string text = over_share_text(plan, space.total, space.free, stored_in(session_.sets()));
  KeepQuestion asked = question();
  asked.by_hand = true;
  if (KeepPlan by_hand = plan_keep(asked); !by_hand.out_of_reach)
    text += "; to do so: kestrum prune " + shell_word(printable(session_.own_job().name));
  return text;
}

UpkeepResult Upkeep::prune(std::uint64_t make_room, bool by_hand) {
  UpkeepResult result;
  by_hand_ = by_hand;
  fold_yield_ = 1000;
  std::optional<std::uint64_t> before;
  std::size_t most_rounds = 0;
  may_fold_ = true;
  while (true) {
    KeepQuestion asked;
    KeepPlan now = plan(make_room, asked);
    result.job_bytes = stored_bytes(asked.sets);
    if (!before) {
      before = result.job_bytes;
      most_rounds = asked.sets.size() + 2;
    }
    result.rounds.push_back(now);
    result.points_left = now.points_left;
    // Each round takes a point away, so that there is an end.
    if (now.empty() || result.rounds.size() > most_rounds) break;
    if (std::string much = unusual_share_text(now); !much.empty() && result.rounds.size() == 1)
      context_.observer.note(much);
    carry_out(now, result);
  }
  result.freed_bytes = *before > result.job_bytes ? *before - result.job_bytes : 0;
  return result;
}

UpkeepResult Upkeep::let_go_given_up() {
  UpkeepResult result;
  may_fold_ = true;
  const std::uint64_t before = stored_in(session_.sets());
  result.rounds.push_back(plan_keep(only_given_up(question())));
  carry_out(result.rounds.back(), result);
  result.job_bytes = stored_in(session_.sets());
  result.freed_bytes = before - std::min(before, result.job_bytes);
  return result;
}

void Upkeep::carry_out(const KeepPlan& plan, UpkeepResult& result) {
  wanted_of_folds_ = plan.by_folding;
  for (const KeepStep& step : plan.steps) {
    context_.control.checkpoint();
    if (!step.fold) {
      if (remove_and_wait(step.first, result)) continue;
      return;  // what goes by the rules alone goes in the next round
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
      return;
    }
  }
}

void Upkeep::learn_damage(Sequence first, Sequence last) {
  ChainReader chain = open_chain();
  for (const FoundSet& set : chain.sets()) {
    if (!set.sealed() || set.folder.sequence < first || set.folder.sequence > last) continue;
    SetReader* reader = chain.try_set(set.folder.sequence);
    if (reader == nullptr) continue;
    CheckOptions options{.drop_cache = true,
                         .own_only = false,
                         .workers = context_.workers,
                         .progress = fold_context(chain, context_).step};
    SetFindings found = check_set(*reader, options);
    if (found.findings.empty()) continue;
    for (const std::string& finding : found.findings) context_.observer.note("damage: " + finding);
    history_.add_check(reader->facts().set, {.when = context_.clock.now(),
                                             .depth = Depth::all,
                                             .good = false,
                                             .lost = found.places,
                                             .affected = {}});
  }
}

// False once its room does not come free: then nothing more is to go for room.
bool Upkeep::remove_and_wait(Sequence sequence, UpkeepResult& result) {
  const FoundSet* set = that_counts(session_.sets(), sequence);
  std::uint64_t bytes = set == nullptr ? 0 : seal_that_counts(*set)->core.facts.totals.stored_bytes;
  std::uint64_t free = session_.store().space().free;
  remove(sequence);
  ++result.removed;
  if (late_ || came_free(free, bytes)) return true;
  late_ = true;
  result.late = size_text(bytes) +
                " were removed, and that room has not come free: somebody still reads them, or the file "
                "system frees late; nothing more is given up to make room";
  context_.observer.note(result.late);
  return false;
}

bool Upkeep::came_free(std::uint64_t free_before, std::uint64_t bytes) {
  constexpr std::uint64_t too_small_to_tell = 256u << 10;
  constexpr auto longest = std::chrono::seconds(3);
  if (bytes < too_small_to_tell || !session_.store().traits().knows_space) return true;
  auto until = std::chrono::steady_clock::now() + longest;
  for (bool settled = false;; settled = true) {
    std::uint64_t free = session_.store().space().free;
    if (free >= free_before + bytes / 2) return true;
    if (std::chrono::steady_clock::now() > until) return false;
    context_.control.checkpoint();
    if (settled) std::this_thread::sleep_for(std::chrono::milliseconds(100));
    session_.store().settle();
  }
}

void Upkeep::remove(Sequence sequence) {
  const FoundSet* set = that_counts(session_.sets(), sequence);
  if (set == nullptr) return;
  std::string name = printable(set->folder.name);
  session_.remove(*set);
  context_.observer.note("removed set " + name);
}

std::uint64_t Upkeep::fold(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told) {
  std::uint64_t gone = 0;
  while (true) {
    FoldPlan plan = fold_batch(first, last, told);
    gone += plan.sets.size() - 1;
    if (plan.last == last) return gone;
  }
}

// What is free now, and what should be: a job that folds keeps some of the drive free by folding in good
// time, so that there is always room for the next step.
FoldRoom Upkeep::fold_room(std::uint64_t wanted) const {
  const Job& job = session_.own_job();
  const StoreSpace space = session_.store().space();
  FoldRoom room;
  room.allowed = space.free;
  room.volume_bytes = sizes_on(job, space.total).volume_bytes;
  const std::uint64_t job_bytes = stored_in(session_.sets());
  const std::int64_t left = room_left(acting_rules(job.keep), job_bytes, space.total, space.free);
  room.wanted = std::max(fold_ahead(job_bytes, left), wanted);
  return room;
}

// Within the limits if that can be; else for a while beyond them, as far as it frees more than it takes:
// there is no other way below them than over them.
FoldPlan Upkeep::plan_batch(ChainReader& chain, Sequence first, Sequence last, ReachableChunks& reachable) {
  const std::int64_t room_now = room();
  FoldRoom within = fold_room(wanted_of_folds_);
  const std::uint64_t allowed = within.allowed;
  within.allowed = std::min(room_now > 0 ? static_cast<std::uint64_t>(room_now) : 0, allowed);
  FoldContext context = fold_context(chain, context_);
  FoldPlan plan = plan_fold(context, first, last, reachable, within);
  if (plan.needed_bytes() <= within.allowed || within.allowed >= allowed) return plan;
  reachable = ReachableChunks();
  within.allowed = allowed;
  plan = plan_fold(context, first, last, reachable, within);
  if (plan.needed_bytes() <= allowed && plan.frees_bytes() > 0)
    context_.observer.note("folding takes up to " + size_text(plan.needed_bytes()) +
                           " for a while, more than [keep] leaves; afterwards less is used than before");
  return plan;
}

FoldPlan Upkeep::fold_batch(Sequence first, Sequence last, const std::function<void(const FoldPlan&)>& told) {
  ChainReader chain = open_chain();
  const std::uint64_t allowed = session_.store().space().free;
  std::uint64_t needed = 0;
  for (Sequence end = last;;) {
    ReachableChunks reachable;
    FoldPlan plan = plan_batch(chain, first, end, reachable);
    needed = plan.needed_bytes();
    const std::int64_t within = room();
    bool worth_it = static_cast<std::int64_t>(needed) <= within || plan.frees_bytes() > 0;
    if (needed <= allowed && worth_it) {
      if (told) told(plan);
      carry_out_fold(chain, plan, reachable);
      return plan;
    }
    if (plan.sets.size() < 3) break;
    end = plan.sets[plan.sets.size() / 2];
  }
  throw Error(ErrorKind::full,
              "folding needs " + size_text(needed) + " for a while, and " + size_text(allowed) +
                  " are free in " + printable(root()),
              "make room on the drive; the sets are as they were");
}

bool Upkeep::was_proved(const ChainReader& chain, const FoldPlan& plan) {
  return std::all_of(plan.sets.begin(), plan.sets.end(), [&](Sequence sequence) {
    std::optional<CheckEntry> check = history_.checks(chain.sets().sealed(sequence)->facts().set).last;
    return check && check->good;
  });
}

FoldedSet Upkeep::write_folded(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable,
                               const SecretKey& master) {
  Store& store = session_.store();
  const SetFacts& facts = chain.sets().sealed(plan.last)->facts();
  SetReader& oldest = chain.set(plan.sets.front());
  UnfinishedFolder folder(store, session_.folder(),
                          set_folder_name(plan.last, facts.started, facts.offset_seconds, oldest.facts().kind,
                                          oldest.facts().covers_from()));
  if (store.traits().reserves) store.reserve(folder.path() + "/" + reserve_name, seal_reserve_bytes);
  SetWriterOptions options = sizes_on(session_.own_job(), store.space().total);
  if (std::optional<std::uint64_t> largest = session_.destination().facts.largest_file)
    options.volume_bytes = std::min(options.volume_bytes, *largest);
  options.workers = context_.workers;
  options.scratch_folder = context_.home.scratch_folder();
  FoldedSet folded =
      write_fold(fold_context(chain, context_), plan, reachable, store, folder.path(), master, options);
  context_.control.checkpoint();
  session_.guard().check();
  try {
    folded.identity.folder = seal_set(store, folded.identity, folded.seal, master);
  } catch (...) {
    if (sealed_folder(store, folded.identity.folder)) folder.keep();  // the next run takes it back
    throw;
  }
  folder.keep();
  return folded;
}

void Upkeep::check_folded(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable,
                          const FoundSet& folded, const SecretKey& master) {
  context_.observer.phase_begins(Phase::checking, {plan.copied_bytes, 0});
  std::vector<std::string> findings;
  try {
    SetReader reader(session_.store(), session_.sets().shared(folded.folder.sequence), master);
    findings = check_fold(fold_context(chain, context_), plan, reachable, reader);
  } catch (...) {
    session_.remove(folded);
    throw;
  }
  if (findings.empty()) return;
  session_.remove(folded);
  throw damage("the folded set does not read back as it was written: " + findings[0]);
}

void Upkeep::carry_out_fold(ChainReader& chain, const FoldPlan& plan, const ReachableChunks& reachable) {
  const FoundSet& newest = *chain.sets().sealed(plan.last);
  context_.observer.phase_begins(Phase::folding, {plan.copied_bytes, 0});
  SecretKey master = session_.keys().unlock(newest.seal->keys, newest.facts().chain);
  bool proved = was_proved(chain, plan);
  FoldedSet written = write_folded(chain, plan, reachable, master);
  const FoundSet& folded = session_.sealed_now(written.identity.folder, written.identity.set);
  check_folded(chain, plan, reachable, folded, master);
  count_on(folded, proved);
  std::uint64_t bytes = folded.facts().totals.stored_bytes;
  session_.finish(folded);
  context_.observer.note("folded points " + std::to_string(plan.first) + " to " + std::to_string(plan.last) +
                         " into one: " + size_text(plan.stored_bytes) + " became " + size_text(bytes));
}

// The folded set takes the place of the newest one in what this machine remembers.
void Upkeep::count_on(const FoundSet& folded, bool proved) {
  if (proved)
    history_.add_check(
        folded.facts().set,
        {.when = context_.clock.now(), .depth = Depth::all, .good = true, .lost = {}, .affected = 0});
  if (session_.sets().newest() != &folded) return;
  session_.drive().newest_core = folded.seal->core_digest;
  session_.drive().newest_folder = folded.folder.name;
  session_.save_memory();
}

std::string upkeep_text(const UpkeepResult& result) {
  std::vector<std::string> parts;
  if (result.removed > 0) parts.push_back("removed " + count_text(result.removed, "point"));
  if (result.folded > 0) parts.push_back("folded " + count_text(result.folded, "point") + " into others");
  if (parts.empty()) return "nothing to remove";
  return join(parts, ", ") + ", freed " + size_text(result.freed_bytes);
}

}  // namespace kestrum
