#include "plan/plan_words.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

// Why none of the promises wants a point, in their own words.
std::string unwanted_text(const KeepRules& rules, bool endless) {
  std::vector<std::string> parts;
  if (rules.age)
    parts.push_back((endless ? "" : "all of its chain is ") + std::string("older than ") + rules.age->text());
  if (rules.chains) parts.push_back("not of the newest " + count_text(*rules.chains, "chain"));
  if (rules.points) parts.push_back("not one of the newest " + count_text(*rules.points, "point"));
  if (!rules.thin.empty()) parts.emplace_back("thinned out");
  return join(parts, ", ");
}

std::string limit_text(const KeepPlan& plan) {
  switch (plan.tightest) {
    case Limit::next_set:
      break;
    case Limit::job_limit:
      return "job-limit = " + size_text(*plan.rules.job_limit);
    case Limit::drive_limit:
      return "drive-limit = " + std::to_string(*plan.rules.drive_limit) + "%";
    case Limit::leave_free:
      return "leave-free = " + size_text(*plan.rules.leave_free);
  }
  return "the next set takes " + size_text(plan.make_room);
}

std::string point_text(Sequence sequence) {
  return "point " + std::to_string(sequence);
}

std::string wanted_text(const KindDecision& decision) {
  std::string word(kind_name(decision.kind));
  return (decision.kind == Kind::incremental ? "an " : "a ") + word + " set was asked for";
}

std::string job_kind_text(const KindDecision& decision) {
  std::string word(kind_name(decision.kind));
  return decision.kind == Kind::full ? "the job makes full sets only" : "the job makes " + word + " sets";
}

}  // namespace

std::string kind_reason_text(const KindDecision& decision) {
  using Why = KindReason::Why;
  const KindReason& reason = decision.reason;
  std::string compared =
      decision.base ? ", compared with set " + std::to_string(*decision.base) : std::string();
  switch (reason.why) {
    case Why::wanted:
      return wanted_text(decision) + compared;
    case Why::its_time:
      return "it is the time for one by [when] runs" + compared;
    case Why::job_kind:
      return job_kind_text(decision) + compared;
    case Why::first_set:
      return "it is the first set on this destination";
    case Why::turned_on:
      return "encryption was turned on, which needs a new chain";
    case Why::turned_off:
      return "encryption was turned off, which needs a new chain";
    case Why::new_passphrase:
      return "the passphrase is a new one, which needs a new chain";
    case Why::damaged_chain:
      return "the chain is damaged, and folding it for ever would carry that on";
    case Why::full_does_not_fit:
      return "a full set is due, for which there is no room on the drive" + compared;
    case Why::every_sets:
      return "the chain has had " + count_text(reason.found, "set") + ", and a full is due every " +
             count_text(reason.allowed, "set");
    case Why::restore_needs:
      return "a restore would need " + count_text(reason.found, "set") + ", and " +
             std::to_string(reason.allowed) + " are allowed";
    case Why::outgrown:
      return "the sets on the full one hold " + size_text(reason.found) + ", more than " +
             count_text(reason.allowed, "time") + " its " + size_text(reason.own);
    case Why::every:
      return "the full set is of " + local_text(reason.begun) + ", and one is due every " +
             reason.span.text();
    case Why::month:
      return "it is the first run of the month";
    case Why::week:
      return "it is the first run of the week";
    case Why::full_unreadable:
      return "the chain's full set does not read whole any more";
    case Why::none_readable:
      return "no set of the chain has a list of files that still reads whole";
  }
  return {};
}

std::string hold_text(Hold hold) {
  switch (hold) {
    case Hold::nothing:
      return {};
    case Hold::simulated_clock:
      return "the clock is simulated, and this drive was not made under such a clock";
    case Hold::suspect_point:
      return "a point is suspect, and nobody has said yet what to make of it";
  }
  return {};
}

std::string rule_text(const Promise& promise, const KeepRules& rules) {
  using By = Promise::By;
  switch (promise.by) {
    case By::nobody:
      return {};
    case By::no_rule:
      return "no rule";
    case By::points:
      return "points = " + count_text(*rules.points, "point");
    case By::chains:
      return "chains = " + count_text(*rules.chains, "chain");
    case By::age:
      return "age = " + rules.age->text();
    case By::thin:
      return "thin = " + rules.thin.at(promise.thin).text();
  }
  return {};
}

std::string promise_text(const Promise& promise, const KeepRules& rules) {
  using By = Promise::By;
  if (promise.clock_behind) return "the clock is behind most points: rules of time hold still";
  std::string not_counted = promise.away_days == 0
                                ? ""
                                : "; " + count_text(promise.away_days, "day") + " without a run do not count";
  switch (promise.by) {
    case By::nobody:
      return {};
    case By::no_rule:
      return "no rule asks for it to go";
    case By::points:
      return "one of the newest " + count_text(*rules.points, "point");
    case By::chains:
      return "of the newest " + count_text(*rules.chains, "chain");
    case By::age:
      return (promise.young != 0 ? point_text(promise.young) + " of its chain is " : std::string()) +
             "not older than " + rules.age->text() + not_counted;
    case By::thin:
      return rules.thin.at(promise.thin).text() + (promise.last_of_them ? ", the last of them" : "") +
             not_counted;
  }
  return {};
}

namespace {

const SetFate* fate_of(const KeepPlan& plan, Sequence point) {
  for (const SetFate& fate : plan.fates) {
    if (fate.sequence == point) return &fate;
  }
  return nullptr;
}

// ", until 2027-06-14": the day on which the rule lets the point go, where that is known: a chain that grows
// has none, and a later point may take the newest one's place.
std::string until_text(const KeepPlan& plan, const SetFate& fate) {
  const Promise& promise = fate.promise;
  const bool with_chain = promise.by == Promise::By::age && !plan.endless;
  const SetFate* last = with_chain ? fate_of(plan, fate.chain_end) : &fate;
  std::optional<Span> during;
  if (promise.by == Promise::By::thin) during = plan.rules.thin.at(promise.thin).during;
  if (promise.by == Promise::By::age) during = plan.rules.age;
  if (!during || last == nullptr || promise.clock_behind) return {};
  if ((with_chain || promise.last_of_them) && last == &plan.fates.back()) return {};
  return ", until " + day_text(after(last->dated, *during));
}

}  // namespace

std::string fate_reason_text(const KeepPlan& plan, const SetFate& fate) {
  using Why = FateReason::Why;
  const FateReason& reason = fate.reason;
  std::string needs_content =
      reason.other != 0 ? "; " + point_text(reason.other) + " needs what is in it" : std::string();
  switch (reason.why) {
    case Why::held:
      return hold_text(plan.held);
    case Why::kept:
      return standing_text(plan.said.at(fate.sequence));
    case Why::given_up:
      return standing_text(plan.said.at(fate.sequence)) +
             (fate.fate == Fate::stays ? ", but " + needed_text(reason) : needs_content);
    case Why::promised:
      return promise_text(fate.promise, plan.rules) + until_text(plan, fate);
    case Why::newest:
      return "it is the newest";
    case Why::good_chain:
      return "the newest undamaged chain always stays";
    case Why::floor:
      return "one of the last " + count_text(plan.rules.at_least, "good point");
    case Why::unwanted:
      return unwanted_text(plan.rules, plan.endless) + needs_content;
    case Why::needed:
      return needed_text(reason);
    case Why::room:
      return "to make room: " + limit_text(plan) + needs_content;
  }
  return {};
}

std::string needed_text(const FateReason& reason) {
  return point_text(reason.other) + " needs it" +
         (reason.unfoldable ? "; what is damaged is not folded" : "");
}

std::string standing_text(const Standing& standing) {
  std::string because = standing.because.empty() ? "" : ": " + printable(standing.because);
  switch (standing.is) {
    case Standing::Is::by_rules:
      return {};
    case Standing::Is::kept:
      return "kept by name" + because;
    case Standing::Is::given_up:
      return "given up by name" + because;
  }
  return {};
}

std::string broken_rule_text(const std::string& rule) {
  return "[keep] " + rule + " is not kept";
}

std::string broken_text(const KeepRules& rules, const BrokenPromise& broken) {
  return broken_rule_text(rule_text(broken.promise, rules)) + ": " + count_text(broken.points, "point") +
         " that it wants " + (broken.points == 1 ? "goes" : "go") + " to make room";
}

std::string broken_text(const BrokenRule& broken) {
  return broken_rule_text(broken.rule) + ": " + count_text(broken.points, "point") + " went to make room" +
         (broken.oldest_left ? ", the oldest that is left is of " + local_text(*broken.oldest_left) : "");
}

std::string unusual_share_text(const KeepPlan& plan) {
  const std::size_t goes = plan.fates.size() - plan.points_left;
  if (goes < 2 || goes * 10 <= plan.fates.size()) return {};
  return "this takes " + std::to_string(goes) + " of " + count_text(plan.fates.size(), "point") + ", " +
         count_text(plan.points_left, "point") + " will be left";
}

std::string absence_text(const Absence& absence) {
  return "no point was made from " + local_text(absence.from) + " to " + local_text(absence.until) +
         ", longer than this job ever waits: rules of time do not count " +
         count_text(static_cast<std::uint64_t>(absence.seconds / 86400), "day") +
         " of that. Was the machine off, or the drive away? If the clock is wrong, put it right";
}

std::string misdated_text(Sequence point) {
  return point_text(point) + " was made while the clock was wrong; it counts as made between those beside it";
}

std::string clock_behind_text(Instant now) {
  return "the clock says " + local_text(now) +
         ", and most points were made later: rules of time hold still until it is put right";
}

std::string over_share_text(const KeepPlan& plan, std::uint64_t total, std::uint64_t free,
                            std::uint64_t job_bytes) {
  std::uint64_t used = total - std::min(total, free);
  return "the drive is over " + limit_text(plan) + ": " + size_text(used) + " of " + size_text(total) +
         " are used, " + size_text(job_bytes) + " of them by this job; no point is given up for that";
}

}  // namespace kestrum
