// What may go, and why: tables.
#include <gtest/gtest.h>

#include <chrono>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "plan/keep_plan.hpp"
#include "plan/plan_words.hpp"
#include "support/extent.hpp"
#include "support/simulated_years.hpp"

namespace kestrum::test {
namespace {

constexpr std::int64_t day = 86400;
const Instant today{1804248000 + 12 * 3600, 0};  // 2027-03-06 00:00 UTC, a Saturday

// "F100/9 I10/8 D10 F3!": kind, stored MiB, days ago; '!' damaged, '?' suspect, 'k' kept, 'g' given up by
// name, 'c' its key is not at hand, '<' folded from the first of its chain. Sequences count from 1.
std::vector<KeptSet> sets_of(const std::string& text) {
  std::vector<KeptSet> sets;
  Sequence sequence = 0;
  std::size_t begun = 0;  // of the chain
  for (const std::string& word : split(text, ' ')) {
    KeptSet set;
    set.facts.sequence = ++sequence;
    set.facts.set[0] = static_cast<std::uint8_t>(sequence);
    set.facts.kind = word[0] == 'F' ? Kind::full : word[0] == 'I' ? Kind::incremental : Kind::differential;
    if (word[0] == 'F') begun = sets.size();
    set.facts.chain[0] = static_cast<std::uint8_t>(begun + 1);
    set.facts.totals.stored_bytes = std::stoull(word.substr(1)) << 20;
    std::size_t slash = word.find('/');
    std::int64_t days = slash == std::string::npos ? 0 : std::stoll(word.substr(slash + 1));
    set.facts.started = {today.seconds - days * day, 0};
    set.good = word.find('!') == std::string::npos;
    set.suspect = word.find('?') != std::string::npos;
    set.closed = word.find('c') != std::string::npos;
    if (word.find('k') != std::string::npos) set.facts.standing = {Standing::Is::kept, "the move", today};
    if (word.find('g') != std::string::npos) set.facts.standing = {Standing::Is::given_up, "", today};
    std::size_t first = word[0] == 'D' ? begun + 1 : sets.size();
    for (std::size_t i = begun; word[0] != 'F' && i < sets.size(); ++i) {
      if (word[0] == 'D' && i >= first) break;
      set.facts.needs.push_back({sets[i].facts.sequence, sets[i].facts.set});
    }
    sets.push_back(std::move(set));
  }
  return sets;
}

std::string plan_text(const KeepPlan& plan) {
  std::vector<std::string> parts;
  for (const KeepStep& step : plan.steps)
    parts.push_back(step.fold ? "fold " + std::to_string(step.first) + "-" + std::to_string(step.last)
                              : std::to_string(step.first));
  return join(parts, " ");
}

struct KeepCase {
  const char* name;
  const char* sets;
  KeepRules rules;
  const char* steps;
  const char* reason;  // a part of the reason of the first point
  bool endless = false;
  std::uint64_t room = 1000;  // MiB of the drive
  std::uint64_t make_room = 0;
  bool may_fold = true;
  std::size_t broken = 0;
};

void PrintTo(const KeepCase& one, std::ostream* out) {
  *out << one.name;
}

KeepRules age(unsigned days) {
  KeepRules rules;
  rules.age = Span{days, Span::Unit::day};
  return rules;
}
KeepRules points(unsigned count) {
  KeepRules rules;
  rules.points = count;
  return rules;
}
KeepRules chains(unsigned count) {
  KeepRules rules;
  rules.chains = count;
  return rules;
}
KeepRules thin(std::vector<std::string> texts) {
  KeepRules rules;
  for (const std::string& text : texts) rules.thin.push_back(parse_thin_rule(text));
  return rules;
}
KeepRules limit(KeepRules rules, std::uint64_t mib) {
  rules.job_limit = mib << 20;
  return rules;
}
KeepRules floor_of(KeepRules rules, unsigned count) {
  rules.at_least = count;
  return rules;
}

class Keep : public testing::TestWithParam<KeepCase> {};

TEST_P(Keep, Decides) {
  const KeepCase& one = GetParam();
  KeepQuestion question;
  question.rules = one.rules;
  question.endless = one.endless;
  question.may_fold = one.may_fold;
  question.sets = sets_of(one.sets);
  question.now = today;
  question.total = one.room << 20;
  question.free = question.total;
  for (const KeptSet& set : question.sets)
    question.free -= std::min(question.free, set.facts.totals.stored_bytes);
  question.make_room = one.make_room << 20;
  KeepPlan plan = plan_keep(question);
  EXPECT_EQ(plan_text(plan), one.steps);
  ASSERT_EQ(plan.fates.size(), question.sets.size());
  std::string reason = fate_reason_text(plan, plan.fates[0]);
  EXPECT_NE(reason.find(one.reason), std::string::npos) << reason;
  EXPECT_EQ(plan.broken.size(), one.broken);
}

INSTANTIATE_TEST_SUITE_P(
    Cases, Keep,
    testing::Values(
        KeepCase{"nothing there to go", "F100", {}, "", "not older than 30 days"},
        KeepCase{"usual rule: all of the old chain is older",
                 "F100/90 I9/70 F99/29 I9/1",
                 {},
                 "2 1",
                 "all of its chain is older than 30 days"},
        KeepCase{
            "usual rule: one set of it is not", "F100/90 I9/29 F99/28 I9/1", {}, "", "point 2 of its chain"},
        KeepCase{"drive at 90 %: where nothing can be folded, the newest of the oldest chain",
                 "F300/9 I200/8 F300/7 I120/1",
                 {},
                 "2",
                 "not older",
                 false,
                 1000,
                 0,
                 false,
                 1},
        KeepCase{"drive at 90 %: the oldest chain, where its beginning is too much",
                 "F300/9 I20/8 F500/7 I120/1",
                 {},
                 "2 1",
                 "make room",
                 false,
                 1000,
                 0,
                 false,
                 1},
        KeepCase{"age", "F9/40 I9/31 F9/30 F9/1", age(30), "2 1", "all of its chain is older than 30 days"},
        KeepCase{"age, floor", "F9/90 I9/80 F9/70", age(30), "", "point 2 needs it"},
        KeepCase{"floor of three", "F9/90 F9/80 F9/70 F9/60", floor_of(age(30), 3), "1",
                 "older than 30 days"},
        KeepCase{"floor skips what is damaged", "F9/90 F9/80! F9/70 F9/60!", age(30), "2",
                 "last 2 good points"},
        KeepCase{"newest undamaged chain", "F9/90 F9/80 F9/70 I9/69!", floor_of(age(30), 1), "1",
                 "older than 30 days"},
        KeepCase{"newest undamaged chain stays whatever the floor", "F9/90 F9/80! I9/79",
                 floor_of(age(30), 1), "", "newest undamaged chain"},
        KeepCase{"chains", "F9/9 I9/8 F9/7 F9/6", chains(2), "2 1", "not of the newest 2 chains"},
        KeepCase{"chains that hold nothing good do not count", "F9/9 F9/7! F9/6", chains(2), "",
                 "newest 2 chains"},
        KeepCase{"points of fulls", "F9/9 F9/8 F9/7 F9/6", points(3), "1", "not one of the newest 3 points"},
        KeepCase{"points: the chain is needed", "F9/9 I9/8 I9/7 F9/6", points(2), "", "point 3 needs it"},
        KeepCase{"points: differentials go one by one", "F9/9 D9/8 D9/7 D9/6", points(2), "2",
                 "point 3 needs it"},
        KeepCase{"points: the chain goes", "F9/9 I9/8 I9/7 F9/6 I9/5", points(2), "3 2 1",
                 "not one of the newest 2 points"},
        KeepCase{"thinned: folded forwards", "F90/9 I9/8 I9/7 I9/1 I9/0", thin({"every point for 4 days"}),
                 "fold 1-4", "thinned out; point 4 needs what is in it"},
        KeepCase{"thinned: one a week", "F90/17 I9/16 I9/12 I9/11 I9/8 I9/1 I9/0",
                 thin({"every point for 3 days", "one a week for 2 months"}), "fold 1-2 fold 3-5",
                 "thinned out; point 2 needs what is in it"},
        KeepCase{"thinned: what nothing needs is removed first", "F90/9 D9/8 D9/7 D9/1 D9/0",
                 thin({"every point for 4 days"}), "3 2 fold 1-4",
                 "thinned out; point 4 needs what is in it"},
        KeepCase{"thinned: what is damaged is not folded", "F90/9 I9/8! I9/7 I9/1 I9/0",
                 thin({"every point for 4 days"}), "fold 3-4", "what is damaged is not folded"},
        KeepCase{"endless", "F90/40 I9/35 I9/29 I9/0", age(30), "fold 1-3",
                 "older than 30 days; point 3 needs what", true},
        KeepCase{"endless, no room to fold", "F90/40 I9/35 I9/29 I9/0", age(30), "", "point 3 needs it", true,
                 1000, 0, false},
        KeepCase{"limit without promises", "F90/9 F90/8 F90/7 F90/6", limit({}, 300), "1",
                 "to make room: job-limit = 300.0 MiB"},
        KeepCase{"limit: down to the floor", "F90/9 F90/8 F90/7 F90/6", limit({}, 180), "1 2", "make room"},
        KeepCase{"limit that cannot be kept: nothing goes for it", "F90/9 F90/8 F90/7 F90/6", limit({}, 179),
                 "", "no rule asks"},
        KeepCase{"the last of a week is damaged", "F9/17 F9/16 F9/9! F9/2 F9/1",
                 thin({"one a week for 2 months"}), "1 4", "thinned out"},
        KeepCase{"limit breaks a promise", "F90/9 F90/8 F90/7 F90/6", limit(points(4), 300), "1", "make room",
                 false, 1000, 0, true, 1},
        KeepCase{"limit: the unpromised goes first", "F90/9 F90/8 F90/7 F90/6", limit(points(3), 300), "1",
                 "newest 3 points"},
        KeepCase{"limit: points of an old chain go by folding while that helps", "F90/9 I9/8 I9/7 F90/6 I9/5",
                 limit(points(9), 200), "fold 1-2", "make room", false, 1000, 0, true, 1},
        KeepCase{"limit: the old chain goes where folding does not help enough", "F90/9 I9/8 I9/7 F90/6 I9/5",
                 limit(points(9), 150), "3 2 1", "make room", false, 1000, 0, true, 1},
        KeepCase{"limit: one chain, folded down", "F90/9 I9/8 I9/7 I9/5", limit({}, 100), "fold 1-3",
                 "make room"},
        KeepCase{"limit, no room to fold, floor in the old chain", "F90/9 I9/8 I9/7 F90/6", limit({}, 185),
                 "3 2", "no rule asks", false, 1000, 0, false},
        KeepCase{"room for the next set", "F90/9 F90/8 F90/7 F90/6", points(9), "1", "make room", false, 400,
                 100, true, 1},
        KeepCase{"room for the next set is there", "F90/9 F90/8 F90/7 F90/6", points(9), "", "newest 9",
                 false, 500, 100},
        KeepCase{"kept by name: stays whatever the rules", "F9/90k F9/80 F9/70 F9/60", age(30), "2 3",
                 "kept by name: the move"},
        KeepCase{"kept by name: limits do not take it", "F90/9k F90/8 F90/7 F90/6", limit({}, 280), "2",
                 "kept by name"},
        KeepCase{"kept by name: its chain stays, other points of it go", "F90/9 I9/8k F90/7 F9/6 F9/5",
                 points(2), "3", "point 2 needs it"},
        KeepCase{"kept by name: an endless chain folds up to it and after it", "F90/5 I9/4k I9/3 I9/2 I9/1",
                 points(2), "fold 1-2 fold 3-4", "point 2 needs what", true},
        KeepCase{"given up: goes though a rule wants it", "F9/9g F9/8 F9/7", points(9), "1",
                 "given up by name"},
        KeepCase{"given up: others need it, so it folds", "F90/9g I9/8 I9/7", points(9), "fold 1-2",
                 "given up by name; point 2 needs what is in it"},
        KeepCase{"given up: no room to fold", "F90/9g I9/8 I9/7", points(9), "",
                 "given up by name, but point 2 needs it", false, 1000, 0, false},
        KeepCase{"given up: the newest", "F9/9 F9/8 F9/7g", points(9), "3", "newest 9"},
        KeepCase{"given up: the last good chain is another one then", "F9/90 F9/80! F9/0g", points(1), "3",
                 "newest 1 point"},
        KeepCase{"given up points are not counted", "F9/90 F9/80 F9/70g F9/60g", age(30), "3 4",
                 "last 2 good points"},
        KeepCase{"suspect points are not counted", "F9/90 F9/80 F9/70? F9/60?", age(30), "3",
                 "last 2 good points"}));

TEST(KeepPlan, HoldsWhenAskedTo) {
  KeepQuestion question{
      .rules = age(30), .sets = sets_of("F9/90 F9/80 F9/70"), .now = today, .hold = Hold::simulated_clock};
  KeepPlan plan = plan_keep(question);
  EXPECT_TRUE(plan.empty());
  EXPECT_EQ(plan.held, Hold::simulated_clock);
  EXPECT_EQ(fate_reason_text(plan, plan.fates[0]), hold_text(Hold::simulated_clock));
  question.hold = Hold::nothing;
  EXPECT_FALSE(plan_keep(question).empty());
}

// What goes on a drive of 1 GiB; of the free and the wanted room in MiB.
std::string steps_of(const std::string& sets, KeepRules rules, std::uint64_t free = 1024,
                     std::uint64_t make_room = 0, bool may_fold = true) {
  KeepQuestion question{.rules = std::move(rules), .may_fold = may_fold, .sets = sets_of(sets), .now = today};
  question.total = 1u << 30;
  question.free = free << 20;
  question.make_room = make_room << 20;
  return plan_text(plan_keep(question));
}

// What its seal alone says of a point lets none go whose key is at hand.
TEST(KeepPlan, ClosedPointsGoByTheRulesAndTakeNobodysPlace) {
  EXPECT_EQ(steps_of("F9/9c F9/8c F9/2 F9/1", points(3)), "1");
  EXPECT_EQ(steps_of("F9/9c F9/8c F9/2 F9/1", points(2)), "1 2");
  EXPECT_EQ(steps_of("F9/9c F9/8c F9/2", points(2)), "1")
      << "the floor counts it as long as there is no other";
  EXPECT_EQ(steps_of("F9/9c F9/8c F9/2!", points(1)), "") << "the last good ones";
  EXPECT_EQ(steps_of("F9/9 F9/8 F9/2c F9/1c", points(2)), "") << "newer ones of another key prove nothing";
  EXPECT_EQ(steps_of("F9/90 F9/80 F9/70c F9/60c", age(30)), "") << "the floor is held by what opens";
  EXPECT_EQ(steps_of("F9/90 I9/80 I9/70 F9/60c F9/50c", age(30)), "");
  EXPECT_EQ(steps_of("F90/9c I9/8c F9/2 F9/1", points(3)), "") << "point 2 needs it, and it is not folded";
  KeepQuestion thinned{
      .rules = thin({"every point for 8 days"}), .sets = sets_of("F90/9c I9/7c F9/2 F9/1"), .now = today};
  thinned.total = thinned.free = 1u << 30;
  EXPECT_EQ(plan_keep(thinned).fates[0].fate, Fate::stays) << "nor where others are";
  EXPECT_EQ(plan_keep(thinned).points_left, 4u);
  // For room too: the oldest first, and by what is free afterwards the others stay.
  EXPECT_EQ(steps_of("F90/9c F9/2 F9/1", points(3), 1, 50), "1");
  EXPECT_EQ(steps_of("F9/9c F90/2 F9/1 F9/0", points(4), 1, 50), "1 2");
  EXPECT_EQ(steps_of("F60/9c F60/3 F9/2 F9/1", points(4), 1, 50), "1") << "what it frees is free";
  EXPECT_EQ(steps_of("F40/9ck F20/8 F20/2 F9/1", limit(points(4), 70)), "2") << "its bytes are the job's";
  KeepQuestion question{
      .rules = limit(points(9), 50), .sets = sets_of("F20/9c F20/8c F20/2 F9/1"), .now = today};
  question.total = question.free = 1u << 30;
  KeepPlan plan = plan_keep(question);
  EXPECT_EQ(plan_text(plan), "1") << "its bytes are the job's";
  EXPECT_EQ(plan.points_left, 3u);
  ASSERT_EQ(plan.broken.size(), 1u);
  EXPECT_EQ(plan.frees, 20u << 20);
}

TEST(KeepPlan, FoldingThatFreesJustEnoughIsTaken) {
  EXPECT_EQ(steps_of("F90/9 I30/8 F90/2 F9/1", points(9), 0, 30), "fold 1-2");
}

// What is kept by name in old chains does not stop what would do together.
TEST(KeepPlan, ChainsWithAKeptPointGiveWhatTheyCan) {
  EXPECT_EQ(steps_of("F10/9k D10/8 F10/7k D10/6 F10/5 D10/4", points(9), 0, 15), "2 4");
}

// A job whose newest good point lies in a damaged chain is not stopped by what is damaged in it.
TEST(KeepPlan, WhatIsDamagedMakesRoomForANewFull) {
  EXPECT_EQ(steps_of("F90/9 I30/8! I30/7! F90/2! I20/1!", points(9), 10, 60), "3 2");
  EXPECT_EQ(steps_of("F90/9 I30/8! I30/7! F90/2! I20/1!", points(9), 10, 75), "") << "out of reach";
}

// What only a point that went had needed goes before anything else does, but the floor counts it.
TEST(KeepPlan, WhatIsNeededNoMoreGoesFirst) {
  EXPECT_EQ(steps_of("F30/9g D10/8 F30/7 D10/6 F30/5 D10/4", points(5), 0, 35, false), "2 1")
      << "point 1 was given up, and only point 2 needed it";
  EXPECT_EQ(steps_of("F10/9 D10/8 F10/7 F10/6", floor_of(points(3), 3), 0, 5, false), "2");
}

// "one a week for 2 months, until 14 June"
TEST(KeepPlan, ReasonsNameTheDayOnWhichTheRuleEnds) {
  auto reasons = [](const std::string& sets, KeepRules rules, bool endless = false) {
    KeepQuestion question{.rules = std::move(rules), .endless = endless, .sets = sets_of(sets), .now = today};
    question.free = question.total = 1u << 30;
    KeepPlan plan = plan_keep(question);
    std::vector<std::string> out;
    for (const SetFate& fate : plan.fates) out.push_back(fate_reason_text(plan, fate));
    return out;
  };
  using Texts = std::vector<std::string>;
  EXPECT_EQ(
      reasons("F9/20 F9/10 F9/1", thin({"every point for 14 days", "one a week for 2 months"})),
      (Texts{"one a week for 2 months, the last of them, until 2027-04-14",
             "every point for 14 days, until 2027-03-10", "every point for 14 days, until 2027-03-19"}));
  // A newer one may still take the newest one's place.
  EXPECT_EQ(reasons("F9/20 F9/10", thin({"one a week for 2 months"}))[1],
            "one a week for 2 months, the last of them");
  // A chain stays until the last of it is old; one that grows has no such day.
  EXPECT_EQ(reasons("F9/40 I9/20 F9/1", age(30)),
            (Texts{"point 2 of its chain is not older than 30 days, until 2027-03-16",
                   "not older than 30 days, until 2027-03-16", "not older than 30 days"}));
  EXPECT_EQ(reasons("F9/20 I9/10", age(30))[0], "not older than 30 days");
  EXPECT_EQ(reasons("F9/20 I9/10", age(30), true)[1], "not older than 30 days, until 2027-03-26");
}

TEST(KeepPlan, TimeHoldsStillWhileTheClockIsBehind) {
  KeepQuestion question{.rules = age(30), .sets = sets_of("F9/90 F9/80 F9/70 F9/-1"), .now = today};
  question.free = question.total = 1u << 30;
  KeepPlan plan = plan_keep(question);
  EXPECT_TRUE(plan.empty());
  EXPECT_NE(fate_reason_text(plan, plan.fates[0]).find("hold still"), std::string::npos);
  question.rules = points(2);  // no rule of time
  EXPECT_EQ(plan_text(plan_keep(question)), "1 2");
}

TEST(KeepPlan, AFoldedSetMeetsTheNeedsOfWhatItCovers) {
  std::vector<KeptSet> sets = sets_of("F90/9 I9/8 I9/7 I9/6 I9/0");
  sets.erase(sets.begin(), sets.begin() + 2);
  sets[0].facts.kind = Kind::full;
  sets[0].facts.folded_from = 1;
  sets[0].facts.needs.clear();
  KeepQuestion question{.rules = thin({"every point for 4 days"}), .sets = sets, .now = today};
  question.free = question.total = 1u << 30;
  EXPECT_EQ(plan_text(plan_keep(question)), "fold 1-4");
}

// KESTRUM_YEARS=10000 in the evidence tier.
TEST(KeepPlan, HoldsOverSimulatedYears) {
  const std::uint64_t years = extent("KESTRUM_YEARS", 150);
  auto begun = std::chrono::steady_clock::now();
  YearsResult result = simulate_years(1, years, 400);
  std::chrono::duration<double> took = std::chrono::steady_clock::now() - begun;
  EXPECT_EQ(result.failure, "");
  EXPECT_GT(result.removed, years);
  EXPECT_GT(result.folds, years);
  EXPECT_GT(result.broken, years / 10);
  std::printf(
      "%llu simulated years, %llu runs, of which %llu found no room, %llu plans: %llu sets removed, %llu "
      "folds, "
      "%llu plans that broke a promise; %.1f s\n",
      static_cast<unsigned long long>(result.years), static_cast<unsigned long long>(result.runs),
      static_cast<unsigned long long>(result.full), static_cast<unsigned long long>(result.plans),
      static_cast<unsigned long long>(result.removed), static_cast<unsigned long long>(result.folds),
      static_cast<unsigned long long>(result.broken), took.count());
}

// Each has found something that rarely comes together.
TEST(KeepPlan, HoldsInYearsThatFoundSomething) {
  for (std::uint64_t seed : {4,    75,   114,  130,  257,  278,  342,  464,  620,  823,
                             1072, 1078, 2391, 2539, 3452, 3473, 3805, 7841, 9327, 9797})
    EXPECT_EQ(simulate_years(seed, 1, 400).failure, "");
}

TEST(KeepPlan, RoomForARun) {
  KeepRules rules;
  rules.drive_limit = 90;
  EXPECT_EQ(room_for_run(rules, 0, 1000, 150, 0), 50);
  EXPECT_EQ(room_for_run(rules, 0, 1000, 105, 0), 5) << "its own growth ends at the limit";
  EXPECT_EQ(room_for_run(rules, 0, 1000, 50, 0), 5) << "overrun by others: a tenth of what is free";
  EXPECT_EQ(room_for_run(rules, 0, 1000, 50, 20), 20) << "or what it has freed itself";
  rules.job_limit = 3;
  EXPECT_EQ(room_for_run(rules, 0, 1000, 50, 20), 3) << "its own limit holds";
}

TEST(KeepPlan, RoomLeft) {
  KeepRules rules;
  EXPECT_EQ(room_left(rules, 0, 1000, 400), 400);
  rules.drive_limit = 85;
  EXPECT_EQ(room_left(rules, 0, 1000, 400), 250);
  rules.job_limit = 300;
  EXPECT_EQ(room_left(rules, 100, 1000, 400), 200);
  EXPECT_EQ(room_left(rules, 350, 1000, 400), -50);
  rules.leave_free = 390;
  EXPECT_EQ(room_left(rules, 100, 1000, 400), 10);
}

}  // namespace
}  // namespace kestrum::test
