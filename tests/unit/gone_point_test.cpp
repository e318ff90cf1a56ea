// A point that is gone from the drive, and went by no rule and no person.
#include <gmock/gmock.h>

#include "engine/gone_points.hpp"
#include "engine/status.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::ElementsAre;
using testing::HasSubstr;

class GonePoint : public testing::Test {
 protected:
  GonePoint() {
    for (const char* content : {"one", "two", "three"}) {
      write_file(bench_.source() + "/list.csv", content);
      bench_.run_good(Kind::full);  // nothing needs another
    }
  }
  std::vector<Sequence> missed() const {
    std::vector<Sequence> numbers;
    for (const KnownPoint& point : gone_points(bench_.subject())) numbers.push_back(point.sequence);
    return numbers;
  }
  void take_away(Sequence point) { fs::rename(bench_.set_folder(point), aside(point)); }
  std::string aside(Sequence point) const { return bench_.path("aside-" + std::to_string(point)); }

  Workbench bench_{"[protect]\nencryption = \"none\"\n[keep]\npoints = \"100 points\"\n"};
};

TEST_F(GonePoint, IsMissedByEverybodyUntilAPersonSaysThatItIsWell) {
  EXPECT_TRUE(missed().empty());
  const std::string folder = bench_.set_folder(2);
  take_away(2);
  EXPECT_THAT(missed(), ElementsAre(2));
  const std::vector<std::string> findings = list_points(bench_.subject(), nullptr).findings;
  ASSERT_EQ(findings.size(), 1u);
  EXPECT_THAT(findings[0], HasSubstr("point 2 (full, "));
  EXPECT_THAT(findings[0], HasSubstr("it held 1 file, 3 B"));
  EXPECT_THAT(findings[0], HasSubstr("kestrum drop job 2"));
  const VerifyResult checked = bench_.verified();
  EXPECT_FALSE(checked.good());
  EXPECT_THAT(checked.findings, ElementsAre(HasSubstr("point 2")));
  const std::vector<JobStatus> status = job_status({"job"}, bench_.context());
  EXPECT_TRUE(std::any_of(status[0].troubles.begin(), status[0].troubles.end(), [](const JobTrouble& one) {
    return one.kind == TroubleKind::gone && one.text.find("point 2") != std::string::npos;
  }));
  for (int again = 0; again < 2; ++again) {
    const RunOutcome outcome = bench_.run();
    EXPECT_EQ(outcome.entry.result, RunResult::done_with_problems);
    ASSERT_EQ(outcome.problems.size(), 1u);
    EXPECT_THAT(outcome.problems[0].reason, HasSubstr("point 2"));
  }
  // Found again it is no more missed.
  fs::rename(aside(2), folder);
  EXPECT_TRUE(missed().empty());
  bench_.run_good();
  take_away(2);
  EXPECT_FALSE(drop_gone_point("job", "1", bench_.context())) << "that one is there";
  EXPECT_EQ(drop_gone_point("job", "2", bench_.context())->sequence, 2);
  EXPECT_TRUE(missed().empty());
  bench_.run_good();
}

TEST_F(GonePoint, WhatRulesAndPersonsLetGoIsNotMissed) {
  drop_point("job", "2", "", bench_.context());
  EXPECT_TRUE(missed().empty());
  bench_.set_keep("points = \"1 point\"\nat-least = \"1 point\"");
  prune_job("job", false, bench_.context());
  EXPECT_EQ(bench_.points(), std::vector<Sequence>{3});
  EXPECT_TRUE(missed().empty());
  write_file(bench_.source() + "/list.csv", "four");
  bench_.set_keep("points = \"100 points\"");
  bench_.run_good();
  write_file(bench_.source() + "/list.csv", "five");
  bench_.run_good();
  EXPECT_GT(bench_.fold(3, 5), 0u);
  EXPECT_TRUE(missed().empty());
  bench_.run_good(Kind::full);
  // Nor what was folded into a set that goes.
  bench_.set_keep("points = \"1 point\"\nat-least = \"1 point\"");
  prune_job("job", false, bench_.context());
  EXPECT_EQ(bench_.points(), std::vector<Sequence>{6});
  EXPECT_TRUE(missed().empty());
}

TEST_F(GonePoint, ADriveThatWasSetBackIsGoneOnWithAsItIs) {
  take_away(1);
  take_away(2);
  bench_.moved = true;
  bench_.run();
  bench_.moved = false;
  EXPECT_TRUE(missed().empty());
  bench_.run_good();
}

// The newest is told once: by what the next run is refused with.
TEST_F(GonePoint, TheNewestIsToldWithTheRefusal) {
  take_away(3);
  EXPECT_TRUE(missed().empty());
  const PointsResult result = list_points(bench_.subject(), nullptr);
  ASSERT_TRUE(result.refused);
  EXPECT_THAT(result.refused->what(), HasSubstr("point 3 was made here"));
  EXPECT_THAT(result.refused->hint(), HasSubstr("kestrum run job --moved"));
  EXPECT_EQ(result.findings.size(), 1u);
}

}  // namespace
}  // namespace kestrum::test
