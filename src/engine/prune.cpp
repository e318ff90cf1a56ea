#include "engine/prune.hpp"

#include "base/text.hpp"
#include "plan/plan_words.hpp"

namespace kestrum {
namespace {

// What one verb on all destinations of a job shares.
struct EachDrive {
  EachDrive(const std::string& name, const RunContext& given)
      : context(given),
        job(given.home.load_job(name)),
        state(given.home.load_state(name)),
        history(History::open(given.home, [&](const std::string& text) { given.observer.note(text); })),
        keys(job_keys(job, given.ask)) {}

  // Calls `use` for each destination that is connected and has a set.
  void visit(const std::function<void(LookSession)>& use) {
    std::optional<Error> first;
    bool any = false;
    for (const std::string& named : job.destinations) {
      std::optional<LookSession> session;
      try {
        session.emplace(job, named, state, context, keys);
        if (!session->has_identity() || !session->destination().drive || !state)
          throw Error(ErrorKind::no_destination,
                      "there is no archive set of the job '" + printable(job.name) + "' in " +
                          printable(named) + " yet",
                      "run the job first: kestrum run " + printable(job.name));
      } catch (const Error& error) {
        if (!first) first = error;
        context.observer.note(error.what());
        continue;
      }
      any = true;
      use(std::move(*session));
    }
    if (!any) throw *first;
  }

  // The same for writing, with whatever a drive that goes away means for what failed.
  void change(const std::function<void(WriteSession&)>& use) {
    visit([&](LookSession found) {
      WriteSession session(std::move(found), context);
      try {
        session.prove_sets();
        session.finish_folds();
        use(session);
      } catch (const Error& error) {
        throw session.guard().explain(error);
      }
      if (session.memory_trouble()) context.observer.note(session.memory_trouble()->what());
    });
  }

  const RunContext& context;
  Job job;
  std::optional<JobState> state;
  History history;
  std::shared_ptr<KeyRing> keys;
};

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

namespace {

PruneOutcome prune_outcome(const LookSession& session, const KeepQuestion& question) {
  PruneOutcome outcome;
  const Job& job = *session.job();
  outcome.destination = session.destination().named;
  outcome.root = session.root();
  outcome.rules = keep_lines(acting_rules(job.keep), job.renew.never());
  outcome.sets = question.sets;
  outcome.plan = plan_keep(question);
  return outcome;
}

}  // namespace

std::vector<PruneOutcome> prune_job(const std::string& name, bool dry, const RunContext& context) {
  std::vector<PruneOutcome> outcomes;
  EachDrive drives(name, context);
  if (dry) {
    drives.visit([&](const LookSession& session) {
      KeepQuestion question = keep_question(session, drives.history, context);
      question.by_hand = true;
      outcomes.push_back(prune_outcome(session, question));
      outcomes.back().space = session.store().space();
    });
    return outcomes;
  }
  drives.change([&](WriteSession& session) {
    Upkeep upkeep(session, drives.history);
    KeepQuestion question = keep_question(session, drives.history, context);
    question.by_hand = true;
    PruneOutcome outcome = prune_outcome(session, question);
    outcome.done = upkeep.prune(0, true);
    outcome.space = session.store().space();
    outcomes.push_back(std::move(outcome));
  });
  return outcomes;
}

namespace {

std::vector<KeepStep> fold_steps(const FoldRequest& request, const KeepQuestion& question,
                                 const std::string& job) {
  if (question.hold != Hold::nothing)
    throw Error(ErrorKind::failed, "nothing is folded: " + hold_text(question.hold),
                "run it with the real clock");
  if (request.last) return {range_of(request, question.sets, job)};
  std::vector<KeepStep> steps;
  for (const KeepStep& step : plan_keep(question).steps) {
    if (step.fold) steps.push_back(step);
  }
  return steps;
}

FoldOutcome fold_outcome(const LookSession& session, const KeepQuestion& question) {
  FoldOutcome outcome;
  outcome.destination = session.destination().named;
  outcome.root = session.root();
  outcome.bytes_before = outcome.bytes_after = stored(question.sets);
  return outcome;
}

}  // namespace

namespace {

FoldOutcome look_at_folds(const LookSession& session, const FoldRequest& request, EachDrive& drives) {
  KeepQuestion question = keep_question(session, drives.history, drives.context);
  FoldOutcome outcome = fold_outcome(session, question);
  for (const KeepStep& step : fold_steps(request, question, drives.job.name)) {
    outcome.batches.push_back(look_at_fold(session, drives.context, step.first, step.last));
    outcome.points_gone += outcome.batches.back().sets.size() - 1;
  }
  return outcome;
}

FoldOutcome carry_out_folds(WriteSession& session, const FoldRequest& request, EachDrive& drives) {
  Upkeep upkeep(session, drives.history);
  KeepQuestion question = upkeep.question();
  FoldOutcome outcome = fold_outcome(session, question);
  auto told = [&](const FoldPlan& plan) {
    outcome.batches.push_back(plan);
    drives.context.observer.note("folding points " + std::to_string(plan.sets.front()) + " to " +
                                 std::to_string(plan.last) + ": needs up to " +
                                 size_text(plan.needed_bytes()) + " for a while");
  };
  for (const KeepStep& step : fold_steps(request, question, drives.job.name))
    outcome.points_gone += upkeep.fold(step.first, step.last, told);
  outcome.bytes_after = stored(upkeep.question().sets);
  return outcome;
}

}  // namespace

std::vector<FoldOutcome> fold_job(const std::string& name, const FoldRequest& request,
                                  const RunContext& context) {
  std::vector<FoldOutcome> outcomes;
  if (request.first && !request.last)
    throw Error(ErrorKind::usage, "a first point alone is no range", "name the last one too: --last POINT");
  EachDrive drives(name, context);
  if (request.last && drives.job.destinations.size() > 1)
    throw Error(ErrorKind::usage, "the job has several destinations, each with points of its own",
                "leave out --first and --last: what the keep rules let go is folded on each");
  if (request.dry) {
    drives.visit(
        [&](const LookSession& session) { outcomes.push_back(look_at_folds(session, request, drives)); });
  } else {
    drives.change(
        [&](WriteSession& session) { outcomes.push_back(carry_out_folds(session, request, drives)); });
  }
  return outcomes;
}

}  // namespace kestrum
