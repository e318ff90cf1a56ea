#include "engine/backup.hpp"

#include <cerrno>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "engine/disk_sharing.hpp"
#include "engine/fit_drive.hpp"
#include "engine/set_store.hpp"

namespace kestrum {
namespace {

std::string result_of(const RunOutcome& outcome) {
  if (outcome.entry.sequence)
    return outcome.problems.empty() && !outcome.error ? "done" : "done with problems";
  return outcome.error && outcome.error->kind() == ErrorKind::stopped ? "stopped" : "failed";
}

class JobRun {
 public:
  JobRun(Job job, std::string named, std::optional<Error> trouble, std::optional<Kind> wanted,
         const RunContext& context)
      : job_(std::move(job)),
        named_(std::move(named)),
        trouble_(std::move(trouble)),
        wanted_(wanted),
        context_(context),
        observer_(context.observer),
        ledger_(Ledger::open_or_renew(context.home.ledger_path(),
                                      [this](const std::string& text) { observer_.note(text); })),
        keys_([this] { return passphrase(); }) {}

  RunOutcome run() {
    RunEntry& entry = outcome_.entry;
    entry.job = job_.name;
    entry.started = context_.clock.now();
    entry.destination = named_;
    ledger_->begin_run(entry);
    entry.log_file = context_.home.log_path(job_.name, entry.number);
    observer_.run_begins(entry.log_file);
    try {
      steps();
    } catch (const Error& error) {
      outcome_.error =
          error.system_code() == EFBIG
              ? Error(error.kind(), error.what(),
                      "the destination takes no files of that size: set [how] volume-size below it")
              : error;
    } catch (const std::bad_alloc&) {
      outcome_.error = Error(ErrorKind::failed, "there was not enough memory");
    } catch (const std::exception& error) {
      outcome_.error = Error(ErrorKind::failed, std::string("unexpected: ") + error.what());
    }
    entry.ended = context_.clock.now();
    entry.result = result_of(outcome_);
    entry.problems = static_cast<std::int64_t>(outcome_.problems.size());
    entry.exit_code = outcome_.error              ? exit_code_of(outcome_.error->kind())
                      : outcome_.problems.empty() ? exit_done
                                                  : exit_problems;
    if (outcome_.error && outcome_.error->kind() == ErrorKind::full && outcome_.error->hint().empty())
      outcome_.error = Error(ErrorKind::full, outcome_.error->what(),
                             "make room there; the points made before are as they were");
    if (outcome_.error) entry.message = outcome_.error->what();
    ledger_->finish_run(entry, outcome_.problems);
    return std::move(outcome_);
  }

 private:
  std::optional<std::string> passphrase() {
    if (!passphrase_)
      passphrase_ = get_passphrase(job_.passphrase, "passphrase of the job '" + printable(job_.name) + "'",
                                   context_.ask);
    return passphrase_;
  }

  // A slip of the finger in the first passphrase would only be noticed at the first restore.
  void confirm_passphrase(const std::string& phrase) {
    if (job_.passphrase != "ask") return;
    std::optional<std::string> again =
        context_.ask ? context_.ask("the same again, since nobody can bring it back") : std::nullopt;
    if (again != phrase) throw Error(ErrorKind::key, "the two passphrases are not the same", "run it again");
  }

  void steps() {
    if (trouble_) throw *trouble_;
    state_ = context_.home.load_state(job_.name);
    destination_ = find_destination(job_, named_, state_, context_.machine, context_.open_store);
    Selection selection = select(job_.what, context_.people, context_.clock.now(),
                                 [this](const std::string& text) { observer_.note(text); });
    exclude_destinations(job_, selection);
    refuse_same_disk(selection);
    claim_destination(destination_, job_, state_, context_.machine, context_.clock);
    if (!state_) state_.emplace();
    state_->job = destination_.identity->job;
    drive_ = &state_->use(destination_.drive->id, named_);
    JobLock lock(*destination_.store, destination_.folder, context_.machine);
    tidy_job_folder(*destination_.store, destination_.folder, state_->job,
                    [this](const std::string& text) { observer_.note(text); });
    FitDrive fit(job_, destination_, *state_, keys_, ledger_.get(), context_, lock,
                 [this](const UpkeepResult& result) { tell_upkeep(result, "to make room: "); });
    fit.upkeep().finish_folds();
    if (observer_.wants_totals()) scan(selection);
    make_point(selection, lock, fit);
    keep_up(fit.upkeep());
    outcome_.free_bytes = destination_.store->space().free;
  }

  // Until a set is sealed: what was decided is decided anew when a base turns out not to read, and after room
  // was made.
  void make_point(const Selection& selection, const JobLock& lock, FitDrive& fit) {
    std::vector<Sequence> unreadable;
    while (true) {
      prepare(selection, unreadable);
      if (fit.before(plan_->decision.kind, surveyed_, selection)) continue;
      try {
        StoredSet stored = write(lock, fit.store());
        finish(stored);
        return;
      } catch (const BaseUnreadable& error) {
        if (unreadable.size() >= 8 || !plan_->decision.base) throw;
        observer_.note("the list of files of set " + std::to_string(*plan_->decision.base) +
                       " does not read (" + error.what() + "); another base is chosen");
        unreadable.push_back(*plan_->decision.base);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::full || outcome_.entry.sequence) throw;
        fit.during(error);
      }
      outcome_.problems.clear();
    }
  }

  void tell_upkeep(const UpkeepResult& result, const std::string& why) {
    std::vector<std::string> lines;
    if (!result.nothing()) lines.push_back(why + upkeep_text(result));
    for (const KeepPlan& plan : result.rounds)
      lines.insert(lines.end(), plan.broken.begin(), plan.broken.end());
    for (const std::string& line : lines) {
      observer_.note(line);
      outcome_.entry.upkeep.push_back(line);
    }
  }

  // What the keep rules let go, once the new point is there and was found good.
  void keep_up(Upkeep& upkeep) {
    if (outcome_.error || outcome_.entry.checked == "not read back, stopped") return;
    try {
      UpkeepResult result = upkeep.prune();
      tell_upkeep(result, "by the keep rules: ");
      if (!result.unfolded.empty() && !result.damaged)
        outcome_.entry.upkeep.push_back("not folded: " + result.unfolded);
      if (result.damaged)
        add_problem(outcome_.problems, observer_, {destination_.root, "fold", result.unfolded});
      if (!result.rounds.front().held.empty())
        observer_.note("nothing is removed: " + result.rounds.front().held);
    } catch (const Error& error) {
      // The point is made; that the old ones are still there is a problem of its own.
      if (error.kind() == ErrorKind::stopped)
        return observer_.note("the keep rules are left to the next run");
      add_problem(outcome_.problems, observer_, {destination_.root, "prune", error.what()});
    }
  }

  // Once a drive has proved who it is, a run goes on: an unattended refusal would help nobody.
  void refuse_same_disk(const Selection& selection) {
    if (job_.same_disk || context_.same_disk) return;
    std::string shared = shared_disk(selection, destination_.root, destination_.facts);
    if (shared.empty()) return;
    if (!state_ || !destination_.drive || state_->drive(destination_.drive->id) == nullptr)
      refuse_shared_disk(shared);
    observer_.note(shared);
  }

  void scan(const Selection& selection) {
    observer_.phase_begins(Phase::scanning, {});
    FilesystemTable filesystems;
    Walker walker(
        selection, filesystems, [](const Problem&) {}, [](const std::string&) {});
    totals_ = {};
    while (const Walked* found = walker.next()) {
      check_stop(observer_);
      if (!S_ISREG(found->status.st_mode) && !found->device) continue;
      totals_.bytes += static_cast<std::uint64_t>(found->status.st_size);
      ++totals_.files;
      observer_.advanced(static_cast<std::uint64_t>(found->status.st_size), 1);
    }
  }

  // A chain keeps the ways in that it began with.
  void note_recovery_key(const SetPlan& plan) {
    if (job_.recovery_key.empty() || !keeps_others_out(plan.keys)) return;
    Bytes wanted = to_bytes(read_recovery_public(job_.recovery_key));
    bool there = std::any_of(plan.keys.begin(), plan.keys.end(), [&](const KeyEntry& entry) {
      return entry.type == KeyEntryType::recovery && entry.public_key == wanted;
    });
    if (!there)
      observer_.note(
          "the recovery key does not open this chain, which began without it; to begin one that it "
          "opens: kestrum run " +
          printable(job_.name) + " --kind full");
  }

  // The keys of the set to come: those of the chain that goes on, or new ones.
  void choose_keys(SetPlan& plan, ChainReader& chain, const FoundSet* newest) {
    if (plan.decision.chain) {
      plan.chain = *plan.decision.chain;
      plan.keys = chain.sealed(*plan.decision.base)->seal->keys;
      plan.master = keys_.unlock(plan.keys, plan.chain);
      note_recovery_key(plan);
      auto pinned = state_->chain_keys.find(plan.chain);
      if (pinned != state_->chain_keys.end() && pinned->second != key_check(plan.master)) {
        throw Error(
            ErrorKind::key,
            "the archive sets at the destination were written with another key than this machine remembers",
            "somebody may have replaced them; look at the destination before going on");
      }
    } else {
      plan.chain = random_id();
      plan.master = SecretKey::random();
      if (job_.encryption == Encryption::none) {
        plan.keys = {make_clear_entry(plan.master)};
      } else {
        std::optional<std::string> phrase = passphrase();
        if (!phrase) {
          throw Error(ErrorKind::key, "the job is encrypted and its passphrase was not given",
                      "set [protect] passphrase = \"file:/path\", or run it on a terminal and type it");
        }
        if (newest == nullptr) confirm_passphrase(*phrase);
        plan.keys = {make_passphrase_entry(plan.master, plan.chain, *phrase, context_.key_cost)};
        if (!job_.recovery_key.empty())
          plan.keys.push_back(make_recovery_entry(plan.master, read_recovery_public(job_.recovery_key)));
      }
    }
    if (state_->naming) {
      plan.naming = *state_->naming;
    } else if (newest != nullptr) {
      plan.naming = chain.set(newest->folder.sequence).naming_key();
    } else {
      plan.naming = SecretKey::random();
    }
  }

  // Which kind, on which sets, with which keys.
  void prepare(const Selection& selection, const std::vector<Sequence>& unreadable) {
    std::vector<FoundSet> sets = read_sets(*destination_.store, destination_.folder, state_->job);
    Sequence highest = drive_->highest;
    const FoundSet* newest = nullptr;
    for (const FoundSet& set : sets) {
      if (set.refusal) throw *set.refusal;
      for (const std::string& finding : set.findings) observer_.note("damage at the destination: " + finding);
      highest = std::max(highest, set.folder.sequence);
    }
    chain_.emplace(*destination_.store, std::move(sets), keys_);
    ChainReader& chain = *chain_;
    // A passphrase that does not open what is there is refused before a new chain is begun with it.
    // Where the protection changes, the old chain is left alone and its key is not asked for.
    std::string protection = protection_change(chain, job_);
    surveyed_ = protection.empty() ? survey_chain(chain, ledger_.get(), unreadable) : list_chain(chain);
    bool remembered = !drive_->newest_core;
    for (const FoundSet& set : chain.sets()) {
      if (!set.sealed()) continue;
      remembered = remembered || set.seal->core_digest == *drive_->newest_core;
      newest = &set;
    }
    if (!remembered)
      observer_.note(
          "the destination shows an older state than this machine remembers: its newest set is missing");

    plan_.emplace(SetPlan{.job = job_,
                          .destination = destination_,
                          .selection = selection,
                          .decision = {},
                          .sequence = highest + 1,
                          .chain = {},
                          .master = {},
                          .keys = {},
                          .naming = {},
                          .previous = {},
                          .started = context_.clock.now()});
    SetPlan& plan = *plan_;
    plan.decision =
        decide_kind({job_.kind, job_.renew}, surveyed_, protection, wanted_, context_.clock.now());
    if (newest != nullptr) plan.previous = newest->seal->core_digest;
    choose_keys(plan, chain, protection.empty() ? newest : nullptr);
    outcome_.entry.kind = kind_name(plan.decision.kind);
    outcome_.entry.reason = plan.decision.reason;
  }

  StoredSet write(const JobLock& lock, Store& store) {
    const SetPlan& plan = *plan_;
    observer_.note("kind: " + outcome_.entry.kind + ", because " + plan.decision.reason);
    drive_->highest = plan.sequence;
    state_->naming = plan.naming;
    state_->chain_keys[plan.chain] = key_check(plan.master);
    context_.home.save_state(job_.name, *state_);
    observer_.phase_begins(Phase::copying, totals_);
    StoredSet stored = store_set(plan, store, *chain_, context_, lock, outcome_.problems);
    keys_.add(plan.chain, plan.master);
    return stored;
  }

  void finish(const StoredSet& stored) {
    const SetFacts& facts = stored.seal.core.facts;
    outcome_.entry.sequence = facts.sequence;
    outcome_.entry.totals = facts.totals;
    outcome_.set_folder = destination_.root + "/" + stored.folder;
    std::vector<FoundSet> sets = read_sets(*destination_.store, destination_.folder, state_->job);
    for (const FoundSet& set : sets) {
      if (!set.sealed() || set.seal->core.facts.set != facts.set) continue;
      drive_->newest_core = set.seal->core_digest;
      drive_->written = facts.started;
      context_.home.save_state(job_.name, *state_);
      if (job_.read_back) read_back(set);
      return;
    }
    throw damage("the set that was just sealed does not read");
  }

  void read_back(const FoundSet& set) {
    const SetFacts& facts = set.seal->core.facts;
    observer_.phase_begins(Phase::checking, {facts.totals.stored_bytes, 0});
    SetReader reader(*destination_.store, set, keys_.unlock(set.seal->keys, facts.chain));
    CheckOptions options{
        .deep = true, .drop_cache = true, .own_only = false, .progress = [this](std::uint64_t bytes) {
          check_stop(observer_);
          observer_.advanced(bytes, 0);
        }};
    SetFindings found;
    try {
      found = check_set(reader, options);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::stopped) throw;
      outcome_.entry.checked = "not read back, stopped";
      observer_.note("the set is complete; reading it back was stopped");
      return;
    }
    CheckEntry check{context_.clock.now(), "all", found.findings.empty(), found.places, {}};
    if (check.good) check.affected = 0;  // damage that was known was not referred to
    ledger_->add_check(facts.set, check);
    outcome_.entry.checked = check.good ? "read back, good" : "read back, damaged";
    if (check.good) return;
    for (const std::string& finding : found.findings)
      add_problem(outcome_.problems, observer_, {destination_.root, "read back", finding});
    outcome_.error = Error(ErrorKind::damage, "what was written does not read back as it was written",
                           "check the drive; run the job again, which saves the affected files anew");
  }

  Job job_;
  std::string named_;  // the destination, as the job names it
  std::optional<Error> trouble_;
  std::optional<Kind> wanted_;
  const RunContext& context_;
  Observer& observer_;
  std::unique_ptr<Ledger> ledger_;
  KeyRing keys_;
  std::optional<std::string> passphrase_;
  std::optional<JobState> state_;
  Destination destination_;
  DriveState* drive_ = nullptr;  // in state_
  PhaseTotals totals_;
  std::optional<ChainReader> chain_;
  std::vector<ChainSet> surveyed_;
  std::optional<SetPlan> plan_;
  RunOutcome outcome_;
};

}  // namespace

std::vector<RunOutcome> run_job(const std::string& name, std::optional<Kind> kind, const RunContext& context,
                                const std::function<void(const RunOutcome&)>& done) {
  Job job = context.home.load_job(name);
  std::optional<Error> trouble;
  DestinationChoice choice;
  try {
    choice = choose_destinations(job, context.home.load_state(name), context.machine, context.open_store);
    trouble = choice.trouble;
  } catch (const Error& error) {
    choice.use = {job.destinations.at(0)};
    trouble = error;
  }
  std::vector<RunOutcome> outcomes;
  for (const std::string& named : choice.use) {
    outcomes.push_back(JobRun(job, named, trouble, kind, context).run());
    if (done) done(outcomes.back());
    const std::optional<Error>& error = outcomes.back().error;
    bool full = error && error->kind() == ErrorKind::full;
    if (error && error->kind() == ErrorKind::stopped) break;
    if (!choice.each && !full) break;
    if (full && !choice.each && &named != &choice.use.back())
      context.observer.note(printable(named) + " is full; going on to the next destination");
  }
  return outcomes;
}

}  // namespace kestrum
