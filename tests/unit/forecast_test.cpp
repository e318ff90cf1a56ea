// The coming days, by hand-made histories; what the next set will take.
#include "plan/forecast.hpp"

#include <gtest/gtest.h>

#include "calendar/local_time.hpp"
#include "plan/space_plan.hpp"

namespace kestrum::test {
namespace {

constexpr std::uint64_t mib = 1u << 20;
const Instant today{1804248000, 0};  // 2027-03-05 00:00 UTC

ForecastQuestion question(Kind kind, unsigned days) {
  ForecastQuestion asked;
  asked.kind = kind;
  asked.renew.every_sets = 30;
  asked.runs = {parse_phrase("daily at 20:30")};
  asked.sizes = {.full_bytes = 100 * mib, .growth_a_day = 0, .change_a_day = 2.0 * mib, .least_bytes = 0};
  asked.now = today;
  asked.days = days;
  asked.total = asked.free = 10000 * mib;
  return asked;
}

KeepRules points(unsigned count) {
  KeepRules rules;
  rules.points = count;
  return rules;
}

class Forecasts : public testing::Test {
 protected:
  void SetUp() override { ASSERT_TRUE(set_local_zone("UTC")); }
  void TearDown() override { set_local_zone("localtime"); }
};

TEST_F(Forecasts, FullSetsUpToTheirNumber) {
  ForecastQuestion asked = question(Kind::full, 10);
  asked.keep = points(3);
  Forecast result = forecast(asked);
  ASSERT_EQ(result.days.size(), 11u);  // today among them
  EXPECT_EQ(result.runs, 10u);
  EXPECT_EQ(result.days[0].job_bytes, 100 * mib);  // today's run is at 20:30
  EXPECT_EQ(result.days[1].job_bytes, 200 * mib);
  EXPECT_EQ(result.days[5].job_bytes, 300 * mib);
  EXPECT_EQ(result.days[5].peak_bytes, 400 * mib) << "the oldest goes only after the newest is there";
  EXPECT_EQ(result.peak_bytes, 400 * mib);
  EXPECT_EQ(result.removed, 7u);
  EXPECT_EQ(result.most_restore_sets, 1u);
  EXPECT_FALSE(result.full_on);
}

TEST_F(Forecasts, TheDayTheDriveIsFull) {
  ForecastQuestion asked = question(Kind::full, 10);
  asked.keep = points(9);
  asked.keep.at_least = 9;
  asked.total = asked.free = 401 * mib;
  Forecast result = forecast(asked);
  ASSERT_TRUE(result.full_on);
  EXPECT_EQ(local_text(*result.full_on), "2027-03-09 20:30");
  EXPECT_EQ(result.runs, 4u);
  EXPECT_EQ(result.days[6].failed, 1u);
  EXPECT_EQ(result.peak_bytes, 400 * mib);
}

TEST_F(Forecasts, IncrementsRenewAndNeedMoreAndMore) {
  ForecastQuestion asked = question(Kind::incremental, 20);
  asked.renew.every_sets = 5;
  asked.keep = points(100);
  Forecast result = forecast(asked);
  EXPECT_EQ(result.fulls, 4u);
  EXPECT_EQ(result.most_restore_sets, 5u);
  // 100 MiB, and four days of nearly 2.
  EXPECT_NEAR(static_cast<double>(result.days[4].job_bytes) / mib, 108, 0.2);
}

TEST_F(Forecasts, DifferentialsGrow) {
  ForecastQuestion asked = question(Kind::differential, 4);
  asked.keep = points(100);
  Forecast result = forecast(asked);
  // 100, then 2, 4 and 6, less what changed twice.
  EXPECT_NEAR(static_cast<double>(result.days[3].job_bytes) / mib, 112, 0.5);
  EXPECT_LT(result.days[3].job_bytes, 112 * mib);
  EXPECT_EQ(result.most_restore_sets, 2u);
}

TEST_F(Forecasts, AnEndlessChainHoldsItsDays) {
  ForecastQuestion asked = question(Kind::incremental, 100);
  asked.renew = {};
  asked.keep.age = Span{10, Span::Unit::day};
  Forecast result = forecast(asked);
  EXPECT_EQ(result.fulls, 1u);
  EXPECT_GT(result.folded, 80u);
  EXPECT_LE(result.days.back().points, 12u);
  EXPECT_GE(result.days.back().points, 10u);
  // What is not needed any more goes with the frames that it lies in, not at once.
  EXPECT_NEAR(static_cast<double>(result.days.back().job_bytes) / mib, 145, 25);
  EXPECT_FALSE(result.full_on);
}

TEST_F(Forecasts, WhatWasFoldedCanGoLater) {
  ForecastQuestion asked = question(Kind::incremental, 300);
  asked.renew = {};
  asked.renew.month = true;
  asked.keep.thin = {parse_thin_rule("every point for 5 days"), parse_thin_rule("one a month for 1 year")};
  asked.total = asked.free = 600 * mib;  // for four fulls and what lies between
  Forecast result = forecast(asked);
  EXPECT_FALSE(result.full_on) << local_text(*result.full_on);
  EXPECT_EQ(result.runs, 300u);
  EXPECT_LE(result.peak_bytes, 600 * mib);
}

// As a run does where a full set is due and there is no room for it.
TEST_F(Forecasts, WhereAFullDoesNotFitTheChainGoesOn) {
  ForecastQuestion asked = question(Kind::full, 10);
  asked.keep = points(9);
  asked.keep.at_least = 9;
  asked.total = asked.free = 450 * mib;
  Forecast result = forecast(asked);
  EXPECT_EQ(result.fulls, 4u);
  EXPECT_EQ(result.runs, 10u);
  EXPECT_FALSE(result.full_on);
}

TEST_F(Forecasts, NeverMoreThanTheDriveHolds) {
  ForecastQuestion asked = question(Kind::incremental, 200);
  asked.renew = {};
  asked.keep.thin = {parse_thin_rule("every point for 14 days")};
  asked.sizes.change_a_day = 8.0 * mib;
  asked.total = asked.free = 240 * mib;
  Forecast result = forecast(asked);
  EXPECT_LE(result.peak_bytes, asked.total);
  EXPECT_GT(result.peak_bytes, asked.total * 8 / 10);
}

TEST_F(Forecasts, SideBySide) {
  ForecastQuestion asked = question(Kind::incremental, 60);
  asked.keep.age = Span{30, Span::Unit::day};
  std::vector<Scenario> ways = forecast_side_by_side(asked);
  ASSERT_EQ(ways.size(), 4u);
  EXPECT_FALSE(ways[0].own);
  EXPECT_TRUE(ways[2].own);
  EXPECT_GT(ways[0].forecast.peak_bytes, ways[1].forecast.peak_bytes);
  EXPECT_GT(ways[1].forecast.peak_bytes, ways[2].forecast.peak_bytes);
  EXPECT_GT(ways[1].forecast.peak_bytes, ways[3].forecast.peak_bytes);
}

TEST_F(Forecasts, SizesComeFromHistory) {
  std::vector<KeptSet> sets;
  for (unsigned i = 0; i < 10; ++i) {
    KeptSet set;
    set.facts.sequence = i + 1;
    set.facts.kind = i == 0 ? Kind::full : Kind::incremental;
    if (i > 0) set.facts.base = i;
    set.facts.started = {today.seconds + std::int64_t{i} * 86400, 0};
    set.facts.totals.bytes = (400 + 4 * i) * mib;
    set.facts.totals.stored_bytes = i == 0 ? 200 * mib : 3 * mib;
    sets.push_back(set);
  }
  SizeModel model = size_model(sets, 0);
  EXPECT_FALSE(model.change_assumed);
  EXPECT_NEAR(static_cast<double>(model.full_bytes) / mib, 218, 0.1) << "grown with the sources";
  EXPECT_NEAR(model.growth_a_day / mib, 2, 0.01);
  EXPECT_NEAR(static_cast<double>(model.changed_bytes(1)) / mib, 3, 0.05);
  SizeModel guess = size_model({}, 50 * mib);
  EXPECT_TRUE(guess.change_assumed && guess.full_assumed);
  EXPECT_EQ(guess.full_bytes, 50 * mib);
}

TEST_F(Forecasts, AJobWithoutTimesRunsOnceADay) {
  ForecastQuestion asked = question(Kind::full, 5);
  asked.runs = {parse_phrase("by hand")};
  asked.keep = points(2);
  EXPECT_EQ(forecast(asked).runs, 5u);
}

ChainSet set_of(Kind kind, std::uint64_t stored, std::uint64_t source) {
  ChainSet set;
  set.facts.kind = kind;
  set.facts.totals.stored_bytes = stored;
  set.facts.totals.bytes = source;
  return set;
}

TEST(SpaceNeeds, FromTheSetsBefore) {
  EXPECT_EQ(space_need(Kind::full, {}).bytes, 0u);
  EXPECT_FALSE(space_need(Kind::full, {}).sure);
  std::vector<ChainSet> sets{set_of(Kind::full, 100, 200), set_of(Kind::incremental, 5, 200),
                             set_of(Kind::incremental, 90, 260), set_of(Kind::incremental, 6, 260)};
  EXPECT_EQ(space_need(Kind::full, sets).bytes, 130u) << "grown as the sources have";
  EXPECT_TRUE(space_need(Kind::full, sets).sure);
  EXPECT_EQ(space_need(Kind::incremental, sets).bytes, 6u) << "one large one says little";
  EXPECT_FALSE(space_need(Kind::incremental, sets).sure);
  EXPECT_EQ(space_need(Kind::differential, sets).bytes, 0u);
  sets.push_back(set_of(Kind::differential, 100, 260));
  EXPECT_EQ(space_need(Kind::differential, sets).bytes, 110u) << "they grow";
}

}  // namespace
}  // namespace kestrum::test
