// When a mail is due, told from what was told before.
#include "plan/tell_plan.hpp"

#include <gmock/gmock.h>

#include <map>
#include <random>

#include "base/error.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

constexpr std::int64_t hour = 3600, day = 24 * hour;

class TellPlan : public testing::Test {
 protected:
  // Monday, 2027-03-01 12:00 UTC.
  static constexpr std::int64_t begin = 1803902400;

  TellStep at(std::int64_t seconds, const std::vector<std::string>& troubles = {}) {
    set_local_zone("UTC");
    look_.now = {begin + seconds, 0};
    look_.troubles.clear();
    for (const std::string& mark : troubles) look_.troubles.push_back({mark, {}});
    const TellStep step = tell_step(rules_, memory_, look_);
    memory_ = step.after;
    return step;
  }
  void run_ends(std::int64_t seconds, bool good) {
    ++look_.newest_run;
    look_.good_run = good ? std::optional(Instant{begin + seconds, 0}) : std::nullopt;
  }
  // Hours at which something is told of a trouble that is there all the time.
  std::vector<std::int64_t> told_hours(std::int64_t hours) {
    std::vector<std::int64_t> told;
    for (std::int64_t i = 0; i < hours; ++i) {
      if (const TellStep step = at(i * hour, {"failed 3"}); step.any()) told.push_back(i);
    }
    return told;
  }

  TellRules rules_;
  TellMemory memory_;
  TellLook look_;
};

TEST_F(TellPlan, ATroubleIsToldWhenItComesThenLessAndLessOften) {
  EXPECT_THAT(told_hours(40 * 24), ElementsAre(0, 26, 76, 174, 344, 514, 684, 854));
}

TEST_F(TellPlan, ItIsGoodAgainOnceAfterAGoodRunAndNotBefore) {
  at(0, {"failed 3"});
  EXPECT_FALSE(at(2 * hour).any()) << "nothing good has happened yet";
  run_ends(3 * hour, true);
  EXPECT_FALSE(at(3 * hour + 30, {"problems"}).good_again);
  EXPECT_FALSE(at(3 * hour + 60).good_again) << "the problem was told after that run";
  run_ends(5 * hour, true);
  EXPECT_TRUE(at(5 * hour).good_again);
  EXPECT_FALSE(at(6 * hour).any());
  rules_.good_again = false;
  at(50 * hour, {"failed 3"});
  run_ends(51 * hour, true);
  EXPECT_FALSE(at(51 * hour).any());
}

TEST_F(TellPlan, WhatComesAndGoesIsToldOnceADay) {
  int told = 0;
  for (std::int64_t i = 0; i < 10 * 24; ++i) {
    run_ends(i * hour, i % 2 == 1);
    const TellStep step =
        at(i * hour, i % 2 == 0 ? std::vector<std::string>{"failed 3"} : std::vector<std::string>{});
    told += step.fresh.empty() && step.again.empty() ? 0 : 1;
  }
  EXPECT_EQ(told, 10);
}

TEST_F(TellPlan, ADifferentTroubleIsNewsAtOnce) {
  at(0, {"failed 3"});
  const TellStep step = at(hour, {"failed 3", "damaged"});
  EXPECT_THAT(step.fresh, ElementsAre(1u));
  EXPECT_THAT(step.again, IsEmpty());
}

TEST_F(TellPlan, PatienceIsKeptAndSaysWhenToLookAgain) {
  look_.now = {begin, 0};
  look_.troubles = {{"drive not there: tern-1", {begin + day, 0}}};
  TellStep step = tell_step(rules_, {}, look_);
  EXPECT_FALSE(step.any());
  EXPECT_EQ(step.look_again, (Instant{begin + day, 0}));
  look_.now = {begin + day, 0};
  EXPECT_THAT(tell_step(rules_, step.after, look_).fresh, ElementsAre(0u));
}

TEST_F(TellPlan, NothingOfWhatWasBeforeIsNews) {
  rules_.every_run = true;
  run_ends(-hour, true);
  EXPECT_FALSE(at(0).any());
  run_ends(hour, true);
  EXPECT_TRUE(at(hour).runs);
  EXPECT_FALSE(at(2 * hour).any());
}

TEST_F(TellPlan, RunsOfAJobOnChangeGoIntoADigestADay) {
  rules_.every_run = true;
  look_.on_change = true;
  at(0);
  int mails = 0;
  for (std::int64_t i = 1; i <= 3 * 24 * 4; ++i) {
    run_ends(i * hour / 4, true);
    const TellStep step = at(i * hour / 4);
    EXPECT_FALSE(step.runs);
    mails += step.digest ? 1 : 0;
  }
  EXPECT_EQ(mails, 3);
}

TEST_F(TellPlan, DigestsComeInTheMorningAlsoOverClockChanges) {
  set_local_zone("Europe/London");
  for (const bool weekly : {false, true}) {
    rules_ = {};
    rules_.digest = weekly ? DigestEvery::weekly : DigestEvery::daily;
    TellMemory memory;
    std::vector<std::string> told;
    // From look to look, as the agent goes.
    Instant now{begin + 25 * day, 0};
    const Instant end{begin + 41 * day, 0};
    while (now < end) {
      TellLook look;
      look.now = now;
      const TellStep step = tell_step(rules_, memory, look);
      memory = step.after;
      if (step.digest) told.push_back(weekday_text(now) + " " + local_text(now).substr(11));
      ASSERT_TRUE(step.look_again && now < *step.look_again);
      now = *step.look_again;
    }
    EXPECT_EQ(told.size(), weekly ? 2u : 16u);
    for (const std::string& when : told) {
      EXPECT_EQ(when.substr(4), "07:00");
      if (weekly) {
        EXPECT_EQ(when.substr(0, 3), "Mon");
      }
    }
  }
  set_local_zone("UTC");
}

TEST_F(TellPlan, AClockThatWasAheadSilencesNothing) {
  at(0);
  at(400 * day, {"failed 3"});  // the clock was a year ahead
  EXPECT_FALSE(at(hour, {"failed 3"}).any());
  EXPECT_THAT(at(3 * hour + day, {"failed 3"}).again, ElementsAre(0u));
}

TEST(TellRulesText, SaysWhatIsWanted) {
  TellRules rules;
  EXPECT_EQ(tell_when_text(rules), "problems, and when they are gone");
  set_tell_when(rules, {"every run", "a digest a week", "a digest a day"});
  EXPECT_EQ(tell_when_text(rules), "every run; a digest a day");
  EXPECT_THROW(set_tell_when(rules, {"problem"}), Error);
}

// Five hundred days of forty desktops with the usual settings, one job each. Each day a run; faults come as
// they do where nobody is careful. A mail is what one look of one machine makes.
TEST(TellFleet, FortyJobsInFiveHundredDaysAreFewEnoughMailsToBeRead) {
  set_local_zone("UTC");
  std::mt19937 random(7);
  const auto happens = [&](double chance) { return std::uniform_real_distribution<>(0, 1)(random) < chance; };
  struct Desktop {
    TellMemory memory;
    std::int64_t run = 0;
    int away = 0, broken = 0;  // days that are left
    std::int64_t waits_since = 0;
    std::optional<Instant> good;
    bool bad = false;                 // the last run
    std::int64_t problems_since = 0;  // its end, where it had some
  };
  std::vector<Desktop> fleet(40);
  constexpr int days = 500;
  std::size_t mails = 0, trouble_days = 0, busiest = 0;
  std::map<std::string, std::size_t> about;
  for (int today = 0; today < days; ++today) {
    std::size_t mails_today = 0;
    for (Desktop& one : fleet) {
      // The drive at home for some days each second month; a fault that lasts until somebody mends it; a file
      // that is locked now and then.
      if (one.away == 0 && happens(1.0 / 60)) one.away = 1 + static_cast<int>(random() % 9);
      if (one.broken == 0 && happens(1.0 / 150)) one.broken = 1 + static_cast<int>(random() % 4);
      const bool locked = happens(1.0 / 40);
      for (int quarter = 0; quarter < 4; ++quarter) {
        const std::int64_t now = 1803902400 + today * day + quarter * day / 4;
        TellLook look;
        look.now = {now, 0};
        if (quarter == 2 && one.away == 0) {  // the run of noon
          ++one.run;
          one.waits_since = 0;
          one.bad = one.broken > 0;
          one.problems_since = !one.bad && locked ? now : 0;
          if (!one.bad) one.good = look.now;
        }
        if (quarter == 2 && one.away > 0 && one.waits_since == 0) one.waits_since = now;
        look.newest_run = one.run;
        look.good_run = one.bad ? std::nullopt : one.good;
        if (one.waits_since > 0)
          look.troubles.push_back({"drive not there: tern-1", {one.waits_since + patience_seconds, 0}});
        if (one.bad) look.troubles.push_back({"failed 3", {}});
        if (one.problems_since > 0)
          look.troubles.push_back({"problems", {one.problems_since + patience_seconds, 0}});
        const TellStep step = tell_step({}, one.memory, look);
        one.memory = step.after;
        trouble_days += quarter == 3 && !look.troubles.empty() ? 1 : 0;
        if (!step.any()) continue;
        ++mails_today;
        ++about[!step.fresh.empty()   ? "a new trouble"
                : !step.again.empty() ? "one that is still there"
                                      : "good again"];
      }
      one.away -= one.away > 0 ? 1 : 0;
      one.broken -= one.broken > 0 ? 1 : 0;
    }
    mails += mails_today;
    busiest = std::max(busiest, mails_today);
  }
  std::printf(
      "500 days of 40 jobs: %zu mails, %.1f a day, at most %zu in one; %zu evenings on which a job stood "
      "badly\n",
      mails, static_cast<double>(mails) / days, busiest, trouble_days);
  for (const auto& [what, count] : about) std::printf("  %s: %zu\n", what.c_str(), count);
  EXPECT_GT(mails, 300u) << "troubles must be told";
  EXPECT_LT(static_cast<double>(mails) / days, 3.0);
}

}  // namespace
}  // namespace kestrum
