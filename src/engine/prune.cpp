#include "engine/prune.hpp"

#include "base/text.hpp"

namespace kestrum {
namespace {

// Opens the job on each destination that is connected and calls `use` there.
void on_each_drive(const std::string& name, bool change, const RunContext& context,
                   const std::function<void(Destination&, Upkeep&, const Job&)>& use) {
  Job job = context.home.load_job(name);
  std::optional<JobState> state = context.home.load_state(name);
  std::unique_ptr<Ledger> ledger = Ledger::open_or_renew(
      context.home.ledger_path(), [&](const std::string& text) { context.observer.note(text); });
  KeyRing keys([&] {
    return get_passphrase(job.passphrase, "passphrase of the job '" + printable(job.name) + "'", context.ask);
  });
  std::optional<Error> first;
  bool any = false;
  for (const std::string& named : job.destinations) {
    Destination destination;
    try {
      destination = find_destination(job, named, state, context.machine, context.open_store);
      if (!destination.identity || !destination.drive || !state)
        throw Error(
            ErrorKind::no_destination,
            "there is no archive set of the job '" + printable(name) + "' in " + printable(named) + " yet",
            "run the job first: kestrum run " + printable(name));
    } catch (const Error& error) {
      if (!first) first = error;
      context.observer.note(error.what());
      continue;
    }
    any = true;
    std::optional<JobLock> lock;
    if (change) {
      lock.emplace(*destination.store, destination.folder, context.machine);
      tidy_job_folder(*destination.store, destination.folder, destination.identity->job,
                      [&](const std::string& text) { context.observer.note(text); });
    }
    Upkeep upkeep(job, destination, *state, keys, ledger.get(), context, lock ? &*lock : nullptr);
    if (change) upkeep.finish_folds();
    use(destination, upkeep, job);
  }
  if (!any) throw *first;
}

std::uint64_t stored(const std::vector<KeptSet>& sets) {
  std::uint64_t bytes = 0;
  for (const KeptSet& set : sets) bytes += set.facts.totals.stored_bytes;
  return bytes;
}

// The range that was asked for, with the chain's oldest set where only its end was.
KeepStep range_of(const FoldRequest& request, const std::vector<KeptSet>& sets, const std::string& job) {
  auto there = [&](Sequence sequence) -> const KeptSet& {
    for (const KeptSet& set : sets) {
      if (set.facts.covers_from() <= sequence && sequence <= set.facts.sequence) return set;
    }
    throw Error(ErrorKind::usage, "there is no point " + std::to_string(sequence),
                "see: kestrum points " + printable(job));
  };
  const KeptSet& last = there(*request.last);
  const KeptSet* first = nullptr;
  for (const KeptSet& set : sets) {
    bool fits = request.first ? &set == &there(*request.first) : set.facts.chain == last.facts.chain;
    if (fits && first == nullptr) first = &set;
  }
  if (first->facts.sequence > last.facts.sequence)
    throw Error(ErrorKind::usage, "the first point comes after the last", "name them the other way round");
  if (first->facts.chain != last.facts.chain)
    throw Error(ErrorKind::usage,
                "points " + std::to_string(first->facts.sequence) + " and " +
                    std::to_string(last.facts.sequence) + " are of two chains",
                "fold within one chain");
  if (first->facts.sequence == last.facts.sequence)
    throw Error(ErrorKind::usage, "there is nothing to fold: the range holds one point",
                "name a wider range");
  return {true, first->facts.covers_from(), last.facts.sequence};
}

}  // namespace

std::vector<PruneOutcome> prune_job(const std::string& name, bool dry, const RunContext& context) {
  std::vector<PruneOutcome> outcomes;
  on_each_drive(name, !dry, context, [&](Destination& destination, Upkeep& upkeep, const Job& job) {
    PruneOutcome outcome;
    outcome.destination = destination.named;
    outcome.root = destination.root;
    outcome.rules = keep_lines(acting_rules(job.keep), job.renew.never());
    KeepQuestion question = upkeep.question();
    outcome.sets = question.sets;
    outcome.plan = plan_keep(question);
    if (!dry) outcome.done = upkeep.prune();
    outcome.space = destination.store->space();
    outcomes.push_back(std::move(outcome));
  });
  return outcomes;
}

std::vector<FoldOutcome> fold_job(const std::string& name, const FoldRequest& request,
                                  const RunContext& context) {
  std::vector<FoldOutcome> outcomes;
  if (request.first && !request.last)
    throw Error(ErrorKind::usage, "a first point alone is no range", "name the last one too: --last POINT");
  if (request.last && context.home.load_job(name).destinations.size() > 1)
    throw Error(ErrorKind::usage, "the job has several destinations, each with points of its own",
                "leave out --first and --last: what the keep rules let go is folded on each");
  on_each_drive(name, !request.dry, context, [&](Destination& destination, Upkeep& upkeep, const Job&) {
    FoldOutcome outcome;
    outcome.destination = destination.named;
    outcome.root = destination.root;
    KeepQuestion question = upkeep.question();
    if (!question.hold.empty())
      throw Error(ErrorKind::failed, "nothing is folded: " + question.hold, "run it with the real clock");
    outcome.bytes_before = stored(question.sets);
    std::vector<KeepStep> steps;
    if (request.last) {
      steps.push_back(range_of(request, question.sets, name));
    } else {
      for (const KeepStep& step : plan_keep(question).steps) {
        if (step.fold) steps.push_back(step);
      }
    }
    for (const KeepStep& step : steps) {
      if (request.dry) {
        outcome.batches.push_back(upkeep.fold_plan(step.first, step.last));
        outcome.points_gone += outcome.batches.back().sets.size() - 1;
      } else {
        outcome.points_gone += upkeep.fold(step.first, step.last, [&](const FoldPlan& plan) {
          outcome.batches.push_back(plan);
          context.observer.note("folding points " + std::to_string(plan.sets.front()) + " to " +
                                std::to_string(plan.last) + ": needs up to " +
                                size_text(plan.needed_bytes()) + " for a while");
        });
      }
    }
    outcome.bytes_after = stored(upkeep.question().sets);
    outcomes.push_back(std::move(outcome));
  });
  return outcomes;
}

}  // namespace kestrum
