// When points count as made: clocks that were wrong, machines that were off.
#include "plan/job_time.hpp"

#include <gtest/gtest.h>

namespace kestrum::test {
namespace {

constexpr std::int64_t day = 86400;

// Points of those days, one sequence each.
std::vector<KeptSet> on_days(const std::vector<int>& days) {
  std::vector<KeptSet> sets;
  for (int at : days) {
    KeptSet set;
    set.facts.sequence = static_cast<Sequence>(sets.size() + 1);
    set.facts.started = {1800000000 + at * day, 0};
    sets.push_back(set);
  }
  return sets;
}
Instant on(int at) {
  return {1800000000 + at * day, 0};
}

TEST(JobTime, DaysInOrderCountAsTheyAre) {
  JobTime time = job_time(on_days({0, 1, 2, 3, 5, 6}), on(7));
  EXPECT_FALSE(time.now_is_behind);
  EXPECT_FALSE(time.absence);
  EXPECT_EQ(time.made[4], on(5));
  EXPECT_EQ(time.away, std::vector<std::int64_t>(6, 0));
}

TEST(JobTime, AnAbsenceDoesNotCount) {
  // Forty days without a run, and two runs since: 39 of them are not explained.
  JobTime time = job_time(on_days({0, 1, 2, 3, 4, 44, 45}), on(46));
  EXPECT_EQ(time.away[4], 39 * day);
  EXPECT_EQ(time.away[0], 39 * day);
  EXPECT_EQ(time.away[5], 0);
  EXPECT_FALSE(time.absence) << "told when it ended, not for ever";
  time = job_time(on_days({0, 1, 2, 3, 4, 44}), on(44));
  ASSERT_TRUE(time.absence);
  EXPECT_EQ(time.absence->from, on(4));
  EXPECT_EQ(time.absence->until, on(44));
  time = job_time(on_days({0, 1, 2, 3, 4}), on(44));
  ASSERT_TRUE(time.absence);
  EXPECT_EQ(time.away[4], 39 * day);
}

TEST(JobTime, WhatIsThinnedOutIsNoAbsence) {
  std::vector<KeptSet> sets = on_days({0, 30, 60, 67, 74, 80, 81, 82, 83, 84});
  const Sequence numbers[] = {1, 31, 61, 68, 75, 81, 82, 83, 84, 85};
  for (std::size_t i = 0; i < sets.size(); ++i) sets[i].facts.sequence = numbers[i];
  JobTime time = job_time(sets, on(85));
  EXPECT_EQ(time.away, std::vector<std::int64_t>(10, 0));
}

TEST(JobTime, AHolidayOfAWeekCounts) {
  EXPECT_EQ(job_time(on_days({0, 1, 2, 3, 4, 12}), on(13)).away[0], 0);
}

TEST(JobTime, TooFewPointsTellNoRhythm) {
  EXPECT_EQ(job_time(on_days({0, 1, 2}), on(400)).away[0], 0);
}

TEST(JobTime, APointOfAWrongFutureCountsAsMadeBetweenThoseBesideIt) {
  JobTime time = job_time(on_days({0, 1, 2, 3, 4, 735, 6}), on(7));
  EXPECT_TRUE(time.misdated[5]);
  EXPECT_EQ(time.made[5], on(5));
  EXPECT_EQ(time.made[6], on(6));
  EXPECT_FALSE(time.now_is_behind);
  EXPECT_FALSE(time.absence);
}

TEST(JobTime, WhereOthersWereThinnedOutTheNumbersTell) {
  std::vector<KeptSet> sets = on_days({0, 7, 735, 31, 32});
  const Sequence numbers[] = {1, 8, 31, 32, 33};
  for (std::size_t i = 0; i < sets.size(); ++i) sets[i].facts.sequence = numbers[i];
  EXPECT_EQ(job_time(sets, on(33)).made[2], on(30));
  sets.erase(sets.begin(), sets.begin() + 2);
  EXPECT_EQ(job_time(sets, on(33)).made[0], on(31));
}

TEST(JobTime, APointOfAWrongPastToo) {
  JobTime time = job_time(on_days({0, 1, 2, 3, 4, -9000, 6}), on(7));
  EXPECT_TRUE(time.misdated[5]);
  EXPECT_EQ(time.made[5], on(5));
  time = job_time(on_days({-9000, 100, 101, 102, -9001, 104, 105}), on(106));
  EXPECT_FALSE(time.misdated[0]) << "it is in order";
  EXPECT_TRUE(time.misdated[4]);
  time = job_time(on_days({900, 0, 1, 2}), on(3));
  EXPECT_TRUE(time.misdated[0]);
  EXPECT_EQ(time.made[0], on(0)) << "nothing is before it: as the one after it";
}

TEST(JobTime, AClockThatIsBehindMakesNothingOld) {
  EXPECT_TRUE(job_time(on_days({0, 1, 2, 3}), on(-9000)).now_is_behind);
  EXPECT_TRUE(job_time(on_days({0, 1, 2, 3, 735}), on(5)).now_is_behind) << "either may be wrong";
}

}  // namespace
}  // namespace kestrum::test
