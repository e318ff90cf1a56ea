#include "engine/job_run.hpp"

#include <cerrno>

#include "archive/set_check.hpp"
#include "base/exit_codes.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "engine/destination_note.hpp"
#include "engine/disk_sharing.hpp"
#include "engine/drive_trouble.hpp"
#include "engine/gone_points.hpp"
#include "engine/leftover_use.hpp"
#include "engine/log_keeping.hpp"
#include "engine/run_refusal.hpp"
#include "engine/set_proofs.hpp"
#include "engine/ways_in.hpp"
#include "job/job_selection.hpp"
#include "plan/plan_words.hpp"

namespace kestrum {
namespace {

RunResult result_of(const RunOutcome& outcome) {
  if (outcome.entry.sequence && outcome.error && outcome.error->kind() == ErrorKind::suspect)
    return RunResult::suspect;
  if (outcome.entry.sequence)
    return outcome.problems.empty() && !outcome.error ? RunResult::done : RunResult::done_with_problems;
  bool stopped = outcome.error && outcome.error->kind() == ErrorKind::stopped;
  return stopped ? RunResult::stopped : RunResult::failed;
}

// With what helps, where the error itself cannot know it.
Error with_hint(const Error& error) {
  if (error.system_code() == EFBIG)
    return Error(error.kind(), error.what(),
                 "the destination takes no files of that size: set [how] volume-size below it");
  if (error.kind() == ErrorKind::full && error.hint().empty())
    return Error(ErrorKind::full, error.what(), "make room there; the points made before are as they were");
  return error;
}

// What the run will go through, as far as anybody knows: as was counted, else as much as the newest point
// has.
PhaseTotals expected(const FitDrive& fit, const WriteSession& session) {
  const FoundSet* newest = session.sets().newest();
  if (newest == nullptr || fit.expected().bytes != 0) return fit.expected();
  return {newest->facts().totals.bytes, newest->facts().totals.files};
}

// A run that has no number in the history is known by its moment.
std::string log_name(const RunEntry& entry) {
  if (entry.number != 0) return "run-" + std::to_string(entry.number);
  std::string stamp = utc_text({entry.started.seconds, 0});
  std::erase_if(stamp, [](char c) { return c == ':' || c == '-'; });
  return "run-" + stamp;
}

}  // namespace

JobRun::JobRun(const Job& job, std::string named, std::optional<Error> trouble, std::optional<Kind> wanted,
               const RunContext& context, std::shared_ptr<KeyRing> keys, Around& around, bool spare_promises)
    : job_(job),
      named_(std::move(named)),
      trouble_(std::move(trouble)),
      wanted_(wanted),
      spare_promises_(spare_promises),
      context_(context),
      observer_(context.observer),
      keys_(std::move(keys)),
      around_(around),
      history_(History::open(context)) {}

void JobRun::problem(const std::string& path, const std::string& operation, const std::string& reason) {
  add_problem(outcome_.problems, observer_, {path, operation, reason});
}

RunOutcome JobRun::run() {
  begin();
  for (const Problem& known : known_) add_problem(outcome_.problems, observer_, known);
  try {
    steps();
  } catch (const Stopped&) {
    outcome_.error = stopped_error();
  } catch (const Error& error) {
    outcome_.error = with_hint(error);
  } catch (const std::bad_alloc&) {
    outcome_.error = Error(ErrorKind::failed, "there was not enough memory");
  } catch (const std::exception& error) {
    outcome_.error = Error(ErrorKind::failed, std::string("unexpected: ") + error.what());
  }
  end();
  return std::move(outcome_);
}

void JobRun::begin() {
  RunEntry& entry = outcome_.entry;
  entry.job = job_.name;
  entry.started = context_.clock.now();
  entry.destination = named_;
  entry.process = ProcessIdentity::own().text();
  history_.begin_run(entry, start_);
  try {
    entry.log_file = context_.home.log_path(job_.name, log_name(entry));
    observer_.run_begins(entry.log_file);
    keep_logs(entry.log_file, log_rules(context_.home, entry.started));
  } catch (const Error& error) {
    problem("", "keep a log of this run", error.what());
  }
}

// History is never worth a missed run, but that it is not kept must be known.
void JobRun::end() {
  RunEntry& entry = outcome_.entry;
  if (!context_.home.has_job(job_.name))
    problem("", "find the job's file after the run",
            "the job was removed or renamed meanwhile; its sets stay as they are");
  if (history_.trouble()) problem("", "keep this run in the history", history_.trouble()->what());
  entry.ended = context_.clock.now();
  entry.result = result_of(outcome_);
  entry.problems = static_cast<std::int64_t>(outcome_.problems.size());
  entry.exit_code = outcome_.error              ? exit_code_of(outcome_.error->kind())
                    : outcome_.problems.empty() ? exit_done
                                                : exit_problems;
  if (outcome_.error) entry.message = outcome_.error->what();
  bool known = history_.trouble().has_value();
  history_.finish_run(entry, outcome_.problems);
  if (known || !history_.trouble()) return;
  problem("", "keep this run in the history", history_.trouble()->what());
  entry.problems = static_cast<std::int64_t>(outcome_.problems.size());
  entry.result = result_of(outcome_);
  if (entry.exit_code == exit_done) entry.exit_code = exit_problems;
}

// Nothing when it does not read: a job folder that is there then says whose drive it is.
std::optional<JobState> JobRun::remembered() {
  try {
    return context_.home.load_state(job_.name);
  } catch (const Error& error) {
    memory_trouble_ = error;
    return std::nullopt;
  }
}

// Under an identity of its own: the one that it has is that of the folder which another home writes to.
bool JobRun::begins_beside(LookSession& found) {
  found.proved_sets();
  const std::optional<NotOwn> why = not_own(found);
  return why && why->why != NotOwn::Why::namesake;
}

void JobRun::steps() {
  if (trouble_) throw *trouble_;
  std::optional<JobState> state = remembered();
  LookSession found(job_, named_, state, context_, keys_);
  if (context_.meant.beside && begins_beside(found)) {
    state = context_.home.new_memory();
    context_.home.save_state(job_.name, *state);
    found = LookSession(job_, named_, state, context_, keys_);
  }
  // Without a memory, an empty place cannot be told from an empty mount point.
  if (memory_trouble_ && !found.has_identity()) throw *memory_trouble_;
  if (memory_trouble_) problem(context_.home.state_file(job_.name), "read", memory_trouble_->what());
  Selection selection = selected(false);
  refuse_same_disk(found, selection);
  WriteSession session(std::move(found), context_);
  try {
    // Of two runs at once only the one that goes on has its command run.
    const bool sources_changed =
        around_.before([this](const Problem& one) { problem(one.path, one.operation, one.reason); });
    if (sources_changed) selection = selected(true);
    work(session, selection);
  } catch (const Error& error) {
    throw seen_with_drive(session.destination(), error);
  }
  outcome_.free_bytes = session.store().space().free;
}

Selection JobRun::selected(bool silent) {
  Selection selection =
      select(job_.what, context_.people, context_.clock.now(), [this, silent](const std::string& text) {
        if (!silent) note(text);
      });
  exclude_destinations(job_, selection);
  return selection;
}

void JobRun::work(WriteSession& session, const Selection& selection) {
  FitDrive fit(session, history_, spare_promises_,
               [this](const UpkeepResult& result) { tell_upkeep(result, "to make room: "); });
  watch_.emplace(context_, job_.name, selection);
  session.prove_sets();
  accept_or_refuse(session);
  session.finish_folds();
  miss_points(session);
  if (const std::string old = old_way(session).text(); !old.empty())
    note(old + "; " + old_way_advice(job_.name));
  try {
    make_point(session, selection, fit);
    keep_up(fit.upkeep());
  } catch (...) {
    tell_broken(session);
    throw;
  }
  tell_broken(session);
  tell_incomplete(session);
  if (session.memory_trouble())
    problem(context_.home.state_file(job_.name), "remember which drive is the job's",
            std::string(session.memory_trouble()->what()) +
                "; until that is mended, a wrong drive in its place is not noticed");
}

// What lay there when this home looked last, and is gone by no rule and no person: it goes on, and says so,
// until somebody says that it is well.
void JobRun::miss_points(const WriteSession& session) {
  const std::vector<KnownPoint> gone = gone_points(session);
  if (context_.meant.moved) return let_be_gone(history_, gone, context_.clock.now());
  for (const KnownPoint& point : gone)
    problem(session.root(), "find a point", gone_text(point) + "; " + gone_advice(job_, point));
}

// A run that says nothing is all right; a point that cannot be restored is not.
void JobRun::tell_incomplete(const WriteSession& session) {
  std::set<Sequence> points, lacking;
  for (const FoundSet& set : session.sets()) {
    if (!set.sealed()) continue;
    for (const SetNeed& need : set.facts().needs) {
      if (session.sets().meeting(need, set.facts().chain) != nullptr) continue;
      points.insert(set.folder.sequence);
      lacking.insert(need.sequence);
    }
  }
  if (points.empty()) return;
  auto listed = [](const std::set<Sequence>& some) { return sequences_text({some.begin(), some.end()}); };
  problem(session.root(), "restore everything from",
          (points.size() == 1 ? "point " : "points ") + listed(points) + ", which " +
              (points.size() == 1 ? "needs" : "need") + (lacking.size() == 1 ? " set " : " sets ") +
              listed(lacking) + ": not there, or not valid");
}

// Once a drive has proved who it is, a run goes on: an unattended refusal would help nobody.
void JobRun::refuse_same_disk(const LookSession& found, const Selection& selection) {
  if (job_.same_disk || context_.same_disk) return;
  std::string shared = shared_disk(selection, found.root(), found.destination().facts);
  if (shared.empty()) return;
  const std::optional<DriveIdentity>& drive = found.destination().drive;
  if (!found.state() || !drive || found.state()->drive(drive->id) == nullptr) refuse_shared_disk(shared);
  note(shared);
}

void JobRun::make_point(WriteSession& session, const Selection& selection, FitDrive& fit) {
  std::vector<Sequence> unreadable;
  while (true) {
    prepare(session, unreadable);
    // Before the chain goes on where a full set is due, the next drive is looked at.
    bool instead =
        full_fits_ && !wanted_ && !spare_promises_ && plan_->decision.kind == Kind::full && goes_on();
    FitDrive::Fit fits = fit.before(plan_->decision.kind, surveyed_, selection, instead, bytes_left(session));
    full_fits_ = full_fits_ && fits != FitDrive::Fit::no_full;
    if (fits != FitDrive::Fit::yes) continue;
    std::size_t problems = outcome_.problems.size();
    try {
      finish(session, write(session, selection, fit));
      return;
    } catch (const BaseUnreadable& error) {
      if (unreadable.size() >= 8 || !plan_->decision.base) throw;
      note("the list of files of set " + std::to_string(*plan_->decision.base) + " does not read (" +
           error.what() + "); another base is chosen");
      unreadable.push_back(*plan_->decision.base);
    } catch (const WatchDoubt& doubt) {
      watch_->doubt(doubt.why);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::full || outcome_.entry.sequence) throw;
      full_fits_ = fit.during(error, plan_->decision.kind, selection, instead, bytes_left(session)) !=
                       FitDrive::Fit::no_full &&
                   full_fits_;
    }
    outcome_.problems.resize(problems);
  }
}

std::uint64_t JobRun::bytes_left(WriteSession& session) {
  const std::optional<Leftover> left = leftover_of(session);
  return left ? left->bytes : 0;
}

// Whether the chain could go on if no full set were made.
bool JobRun::goes_on() const {
  using Why = KindReason::Why;
  Why why = plan_->decision.reason.why;
  KindDecision other = decide_kind({Kind::incremental, {}, false}, surveyed_, ProtectionChange::none,
                                   std::nullopt, context_.clock.now());
  return other.base.has_value() && why != Why::turned_on && why != Why::turned_off &&
         why != Why::new_passphrase;
}

// What lies there, before anything is decided by it.
void JobRun::look_over(WriteSession& session) {
  Sequence& highest = session.drive().highest;
  for (const FoundSet& set : session.sets()) {
    if (set.not_ours || set.twice) continue;
    if (set.refusal) throw *set.refusal;
    for (const std::string& finding : set.findings) note("damage at the destination: " + finding);
    if (set.sealed()) highest = std::max(highest, set.folder.sequence);
  }
  // What has no seal of ours counts as far as a number can have been used: a name alone uses none up.
  constexpr Sequence most_lost = 1000;
  const Sequence known = highest;
  for (const FoundSet& set : session.sets()) {
    if (set.folder.sequence <= known + most_lost) highest = std::max(highest, set.folder.sequence);
  }
  if (highest >= INT32_MAX - most_lost - 1)
    throw Error(ErrorKind::failed, "the numbers of points are used up at this destination",
                "begin with another folder there");
}

// The next set would take the place of what is missing, and nobody would learn of it.
void JobRun::accept_or_refuse(WriteSession& session) {
  std::string older = session.older_state();
  if (older.empty()) return;
  if (!context_.meant.anything()) throw older_state_error(session, older);
  note(older + "; it goes on from there");
  session.accept_state();
}

// Which kind, on which sets, with which keys.
void JobRun::prepare(WriteSession& session, const std::vector<Sequence>& unreadable) {
  plan_.reset();
  chain_.reset();
  look_over(session);
  chain_.emplace(session.store(), session.sets(), *keys_);
  // A passphrase that does not open what is there is refused before a new chain is begun with it.
  // Where the protection changes, the old chain is left alone and its key is not asked for.
  ProtectionChange protection = protection_change(session.sets(), job_);
  bool goes_on = protection == ProtectionChange::none;
  surveyed_ = goes_on ? survey_chain(*chain_, history_, unreadable) : list_chain(session.sets());
  const FoundSet* newest = session.sets().newest_trusted();
  plan_.emplace();
  SetPlan& plan = *plan_;
  plan.sequence = session.drive().highest + 1;
  plan.set = random_id();
  plan.started = context_.clock.now();
  const ChainRules rules{job_.kind, job_.renew, full_fits_};
  const Instant now = context_.clock.now();
  plan.decision = wanted_ ? decide_kind(rules, surveyed_, protection, wanted_, now)
                          : decide_by_time(rules, surveyed_, protection, times_of(job_), now);
  plan.needs = new_needs(plan.decision, surveyed_);
  const SetList lying = with_closed(session.sets());
  if (lying.newest() != nullptr) plan.previous = lying.newest()->seal->core_digest;
  plan.earlier = plan.decision.base;
  if (!plan.earlier && goes_on && newest != nullptr) plan.earlier = newest->folder.sequence;
  if (goes_on && newest != nullptr && job_.guard)
    plan.guard = guard_setup(session.sets(), plan.decision, job_);
  take_up_leftover(session, plan);
  choose_keys(session, plan, goes_on ? newest : nullptr);
  outcome_.entry.kind = plan.decision.kind;
  outcome_.entry.reason = kind_reason_text(plan.decision);
}

StoredSet JobRun::write(WriteSession& session, const Selection& selection, FitDrive& fit) {
  const SetPlan& plan = *plan_;
  note("kind: " + std::string(kind_name(plan.decision.kind)) + ", because " +
       kind_reason_text(plan.decision));
  session.drive().highest = plan.sequence;
  session.drive().begun = plan.set;
  session.memory().naming = plan.naming;
  session.memory().naming_known = !keeps_others_out(plan.keys);
  session.memory().chain_keys[plan.chain] = key_check(plan.master);
  session.save_memory();
  observer_.phase_begins(Phase::copying, fit.expected());
  if (job_.guard) {
    for (const std::string& line : set_bait_out(job_, *chain_, plan.guard ? plan.guard->reference : 0))
      note(line);
  }
  std::optional<WatchedRun> watched;
  if (plan.decision.base)
    watched = watch_->onto(session.drive(), session.sets().sealed(*plan.decision.base)->facts().set);
  SetStore set(plan, selection, session, fit.store(), *chain_, std::move(watched), expected(fit, session),
               outcome_.problems);
  StoredSet stored;
  try {
    set.begin();
    set.save();
    stored = set.seal();
  } catch (const Stopped&) {
    if (context_.control.discards()) set.let_go();
    throw;
  }
  keys_->add(plan.keys, plan.chain, plan.master);
  return stored;
}

void JobRun::finish(WriteSession& session, const StoredSet& stored) {
  const SetFacts& facts = stored.seal.core.facts;
  outcome_.entry.totals = facts.totals;
  // Nothing is called made that does not read.
  const FoundSet& set = session.sealed_now(stored.folder, facts.set);
  outcome_.entry.sequence = facts.sequence;
  outcome_.entry.set = facts.set;
  outcome_.set_folder = session.root() + "/" + stored.folder;
  // What may not come back after a power cut is not held against the drive later.
  if (stored.sure) remember(session, set, stored);
  tell_saved_anew(stored);
  leave_note_there(session);
  if (job_.after_run != AfterRun::nothing) read_back(session, set);
  if (!outcome_.error && facts.guard == GuardMark::suspect)
    outcome_.error = suspect_error(job_.name, session.sets(), facts.sequence, stored.evidence);
}

// A note is not worth a run.
void JobRun::leave_note_there(const WriteSession& session) {
  try {
    leave_note(session.store(), job_.leaves_program);
  } catch (const Error& error) {
    note(std::string("the note for whoever finds the drive could not be written: ") + error.what());
  }
}

void JobRun::remember(WriteSession& session, const FoundSet& set, const StoredSet& stored) {
  DriveState& drive = session.drive();
  drive.newest_core = set.seal->core_digest;
  drive.newest_folder = set.folder.name;
  drive.written = set.facts().started;
  drive.left = {};
  // The next differential set builds on the same one.
  std::optional<Id> base;
  if (set.facts().kind == Kind::differential && plan_->decision.base) {
    if (const FoundSet* below = session.sets().sealed(*plan_->decision.base)) base = below->facts().set;
  }
  watch_->remember(drive, set.facts().set, base, stored.again);
  session.save_memory();
  if (!session.memory_trouble()) return;
  try {
    session.leave_unremembered(set.folder.sequence);
  } catch (const Error& error) {
    problem(session.root(), "note that this home could not remember its point", error.what());
  }
}

// The new point is whole; the earlier ones are not.
void JobRun::tell_saved_anew(const StoredSet& stored) {
  const std::string earlier = "What that means for earlier points: kestrum verify " + shell_word(job_.name);
  if (plan_->decision.reason.is_damage())
    problem("", "go on with the sets that are there",
            kind_reason_text(plan_->decision) + "; " +
                count_text(stored.seal.core.facts.totals.files, "file was", "files were") + " saved anew. " +
                earlier);
  if (stored.saved_anew > 0)
    problem("", "take over " + count_text(stored.saved_anew, "unchanged file"),
            std::string("what earlier sets hold of ") + (stored.saved_anew == 1 ? "it" : "them") +
                " is damaged or missing; saved anew, so that this point is whole. " + earlier);
}

void JobRun::read_back(WriteSession& session, const FoundSet& set) {
  const SetFacts& facts = set.facts();
  observer_.phase_begins(Phase::checking, {facts.totals.stored_bytes, 0});
  SetReader reader(session.store(), session.sets().shared(facts.sequence),
                   keys_->unlock(set.seal->keys, facts.chain));
  const bool all = job_.after_run == AfterRun::read_back_all;
  CheckOptions options{.frames = all ? FrameCheck::content : FrameCheck::authentic,
                       .content_one_in = 20,
                       .chance = random_number(),
                       .drop_cache = true,
                       .own_only = false,
                       .workers = context_.workers,
                       .progress = [this](std::uint64_t bytes) {
                         context_.control.checkpoint();
                         observer_.advanced(bytes, 0);
                       }};
  SetFindings found;
  try {
    found = check_set(reader, options);
  } catch (const Stopped&) {
    outcome_.entry.checked = ReadBack::stopped;
    outcome_.error = Error(ErrorKind::stopped, "the set is complete; reading it back was stopped",
                           "to check it: kestrum verify " + shell_word(job_.name));
    return;
  }
  CheckEntry check{context_.clock.now(), Depth::all, found.findings.empty(), found.places, {}};
  if (check.good) check.affected = 0;  // damage that was known was not referred to
  history_.add_check(facts.set, check);
  if (check.good) history_.add_proofs(facts.set, proofs_of(set.seal->core, check.when, all));
  outcome_.entry.checked = check.good ? ReadBack::good : ReadBack::damaged;
  for (const std::string& finding : found.parity) problem(session.root(), "read parity back", finding);
  if (check.good) return;
  for (const std::string& finding : found.findings) problem(session.root(), "read back", finding);
  outcome_.error = Error(ErrorKind::damage, "what was written does not read back as it was written",
                         "check the drive; run the job again, which saves the affected files anew");
}

void JobRun::tell_upkeep(const UpkeepResult& result, const std::string& why) {
  std::vector<std::string> lines;
  if (!result.nothing()) lines.push_back(why + upkeep_text(result));
  if (!result.late.empty()) lines.push_back(result.late);
  for (const KeepPlan& plan : result.rounds) {
    broken_rules_ = plan.rules;
    for (const BrokenPromise& one : plan.broken) add_broken(broken_, one);
  }
  for (const std::string& line : lines) {
    note(line);
    outcome_.entry.upkeep.push_back(line);
  }
}

// Once a run, however many rounds it took.
void JobRun::tell_broken(const WriteSession& session) {
  const FoundSet* oldest = nullptr;
  for (const FoundSet& set : session.sets()) {
    if (oldest == nullptr && set.sealed()) oldest = &set;
  }
  for (const BrokenPromise& one : broken_) {
    BrokenRule broken{rule_text(one.promise, broken_rules_), one.points, {}};
    if (oldest != nullptr) broken.oldest_left = oldest->facts().started;
    problem(session.root(), "keep all points in", broken_text(broken));
    outcome_.entry.broken.push_back(std::move(broken));
  }
}

// What the clock and the drive's other users did to the rules.
void JobRun::tell_circumstances(Upkeep& upkeep, const KeepPlan& plan) {
  Instant now = context_.clock.now();
  if (plan.clock_behind) problem("", "go by the clock", clock_behind_text(now));
  if (plan.absence) problem("", "go by the clock alone", absence_text(*plan.absence));
  for (const SetFate& fate : plan.fates) {
    if (fate.misdated) note(misdated_text(fate.sequence));
  }
  std::string others = upkeep.over_share(plan);
  if (others.empty()) return;
  note(others);
  outcome_.entry.upkeep.push_back(others);
}

// What the keep rules let go, once the new point is there and was found good.
void JobRun::keep_up(Upkeep& upkeep) {
  if (outcome_.error || outcome_.entry.checked == ReadBack::stopped) return;
  chain_.reset();  // nothing of it is needed any more, and what it holds open would not be freed
  try {
    UpkeepResult result = upkeep.prune();
    tell_upkeep(result, "by the keep rules: ");
    if (!result.unfolded.empty() && !result.damaged)
      outcome_.entry.upkeep.push_back("not folded: " + result.unfolded);
    if (result.damaged) problem(upkeep.root(), "fold", result.unfolded);
    tell_circumstances(upkeep, result.rounds.back());
    if (Hold held = result.rounds.front().held; held != Hold::nothing)
      note("nothing is removed: " + hold_text(held) +
           (held == Hold::suspect_point ? "; look: kestrum guard " + shell_word(printable(job_.name)) : ""));
  } catch (const Stopped&) {
    note("the keep rules are left to the next run");
  } catch (const Error& error) {
    // The point is made; that the old ones are still there is a problem of its own.
    problem(upkeep.root(), "prune", error.what());
  }
}

}  // namespace kestrum
