#include "engine/prune.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "engine/each_drive.hpp"
#include "plan/plan_words.hpp"

namespace kestrum {
namespace {

std::uint64_t stored(const std::vector<KeptSet>& sets) {
  std::uint64_t bytes = 0;
  for (const KeptSet& set : sets) bytes += set.facts.totals.stored_bytes;
  return bytes;
}

void refuse_kept(const SetFacts& point, const std::string& job) {
  if (!point.standing.kept()) return;
  const std::string number = std::to_string(point.sequence);
  throw Error(ErrorKind::usage, "point " + number + " is " + standing_text(point.standing),
              "fold up to the one before it, or say first: kestrum keep " + shell_word(printable(job)) + " " +
                  number + " --no-longer");
}

// What holds the points that a range takes: a line for each rule.
std::vector<std::string> rules_against(const std::vector<BrokenPromise>& broken, std::size_t good_left,
                                       const KeepRules& rules) {
  std::vector<std::string> lines;
  for (const BrokenPromise& one : broken)
    lines.push_back("[keep] " + rule_text(one.promise, rules) + " wants " + count_text(one.points, "point") +
                    " of them");
  if (good_left < rules.at_least)
    lines.push_back(count_text(good_left, "good point") +
                    " would be left, and [keep] at-least = " + count_text(rules.at_least, "point"));
  return lines;
}

// Points that the rules want, or that a person keeps.
void refuse_wanted(const KeepStep& range, const FoldRequest& request, const KeepQuestion& question,
                   const std::string& job) {
  const KeepPlan plan = plan_keep(question);
  std::vector<BrokenPromise> broken;
  std::vector<Sequence> gone;
  std::size_t left = 0;
  for (std::size_t i = 0; i < question.sets.size(); ++i) {
    const KeptSet& set = question.sets[i];
    bool goes = range.first <= set.facts.sequence && set.facts.sequence < range.last;
    left += !goes && set.counts() ? 1 : 0;
    if (!goes) continue;
    gone.push_back(set.facts.sequence);
    refuse_kept(set.facts, job);
    const Promise& promise = plan.fates[i].promise;
    if (promise.made() && promise.by != Promise::By::no_rule) add_broken(broken, {promise, 1});
  }
  const std::vector<std::string> lines = rules_against(broken, left, plan.rules);
  if (request.beyond_rules || lines.empty()) return;
  throw Error(ErrorKind::usage,
              (gone.size() == 1 ? "point " : "points ") + sequences_text(gone) +
                  " would go, and the keep rules hold " + (gone.size() == 1 ? "it: " : "them: ") +
                  join(lines, "; "),
              "to fold them all the same: --beyond-rules");
}

// The range that was asked for, with the chain's oldest set where only its end was.
KeepStep range_of(const FoldRequest& request, const std::vector<KeptSet>& sets, const std::string& job) {
  auto there = [&](Sequence sequence) -> const KeptSet& {
    for (const KeptSet& set : sets) {
      if (set.facts.covers_from() <= sequence && sequence <= set.facts.sequence) return set;
    }
    throw Error(ErrorKind::usage, "there is no point " + std::to_string(sequence),
                "see: kestrum points " + shell_word(printable(job)));
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
  if (last.closed)
    throw Error(
        ErrorKind::key,
        "the passphrase at hand does not open the chain of point " + std::to_string(last.facts.sequence),
        "what it does not open goes by the rules, and is never folded");
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
                question.hold == Hold::suspect_point
                    ? "look first: kestrum guard " + shell_word(printable(job))
                    : "run it with the real clock");
  if (request.last) {
    KeepStep range = range_of(request, question.sets, job);
    refuse_wanted(range, request, question, job);
    return {range};
  }
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
