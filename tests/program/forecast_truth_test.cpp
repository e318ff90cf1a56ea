// What forecast says of a job, against what the job then does on a real small drive, day by day. Needs root.
#include <cmath>
#include <ctime>
#include <nlohmann/json.hpp>
#include <random>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

using Json = nlohmann::json;

struct JobCase {
  const char* name;
  unsigned changed;  // of 24 files, a day
  unsigned drive;    // MiB
  std::vector<std::string> options;
};
void PrintTo(const JobCase& one, std::ostream* out) {
  *out << one.name;
}

class ForecastTruth : private InMemory, public testing::TestWithParam<JobCase> {
 protected:
  void on_day(int day, int minutes = 0) {
    std::time_t when = 1798835400 + std::time_t{86400} * day + 60 * minutes;  // 2027-01-01 20:30 UTC
    char text[32];
    std::strftime(text, sizeof text, "%FT%TZ", std::gmtime(&when));
    desk_.program.environment["KESTRUM_NOW"] = text;
    desk_.program.environment["TZ"] = "UTC";
  }
  void rewrite(unsigned file) {
    std::string content(100000, '\0');
    for (char& c : content) c = static_cast<char>(random_());
    write_file(desk_.source() + "/list-" + std::to_string(file), content);
  }
  struct Held {
    double bytes = 0;
    std::size_t points = 0;
  };
  Held held() {
    Held out;
    const Json points = Json::parse(desk_({"points", "wardens", "--json"}).out);
    for (const Json& point : points["points"]) {
      out.bytes += point["totals"]["stored-bytes"].get<double>();
      ++out.points;
    }
    return out;
  }
  Json own_way(const Json& forecast) {
    for (const Json& way : forecast["ways"]) {
      if (way["own"]) return way;
    }
    return {};
  }

  Desk desk_;
  std::mt19937 random_{5};
};

TEST_P(ForecastTruth, IsWithinATenthAtDaySixty) {
  if (!may_mount()) GTEST_SKIP() << "mounting a small drive needs root";
  constexpr unsigned files = 24;
  constexpr int known = 14, last = 60;
  const JobCase& job = GetParam();
  Mounted drive("tmpfs", desk_.drive(), "-t tmpfs -o size=" + std::to_string(job.drive) + "m");
  ASSERT_TRUE(drive.good());
  for (unsigned i = 0; i < files; ++i) rewrite(i);
  std::vector<std::string> options = job.options;
  options.insert(options.end(), {"--when-runs", "daily at 20:30", "--check-after-run", "nothing"});
  on_day(0);
  Ran defined = desk_.define(options, false);
  ASSERT_EQ(defined.exit, 0) << defined.err;
  Json own;
  for (int day = 0; day <= last; ++day) {
    if (day == known + 1) {
      on_day(known, 60);
      own = own_way(
          Json::parse(desk_({"forecast", "wardens", "--days", std::to_string(last - known), "--json"}).out));
    }
    for (unsigned i = 0; day > 0 && i < job.changed; ++i) rewrite(static_cast<unsigned>(random_() % files));
    on_day(day);
    Ran ran = desk_({"run", "wardens", "--quiet"});
    ASSERT_LE(ran.exit, 1) << "day " << day << ": " << ran.err;
  }
  on_day(last, 1);
  Held real = held();
  const Json& day = own["by-day"].back();
  double said = day["stored-bytes"];
  std::printf("%s: %.2f MiB were said, %.2f there (%+.1f %%); %d points and %zu\n", job.name,
              said / (1 << 20), real.bytes / (1 << 20), 100 * (said / real.bytes - 1),
              day["points"].get<int>(), real.points);
  EXPECT_NEAR(said / real.bytes, 1, 0.1);
  EXPECT_TRUE(own["full-on"].is_null()) << "no run failed";
  EXPECT_LE(own["peak-bytes"].get<double>(), job.drive * 1048576.0) << "more than the drive holds";
}

INSTANTIATE_TEST_SUITE_P(
    Jobs, ForecastTruth,
    testing::Values(
        JobCase{"increments, renewed every 30 sets",
                2,
                64,
                {"--how-renew", "every 30 sets", "--keep-age", "30 days"}},
        JobCase{"increments, renewed every month",
                4,
                64,
                {"--how-renew", "first run of a month", "--keep-age", "20 days"}},
        JobCase{"differentials",
                1,
                64,
                {"--how-kind", "differential", "--how-renew", "every 14 sets", "--keep-age", "20 days"}},
        JobCase{"ten fulls", 3, 64, {"--how-kind", "full", "--keep-points", "10 points"}},
        JobCase{"endless, two weeks, little room",
                3,
                12,
                {"--how-renew", "never", "--keep-thin", "every point for 14 days"}},
        JobCase{"endless, thinned",
                2,
                16,
                {"--how-renew", "never", "--keep-thin", "every point for 7 days", "--keep-thin",
                 "one a week for 2 months"}},
        JobCase{"a limit of the drive", 3, 16, {"--how-renew", "every 10 sets", "--keep-drive-limit", "85%"}},
        JobCase{"endless, a limit of the job", 3, 64, {"--how-renew", "never", "--keep-job-limit", "9 MiB"}},
        JobCase{"chains, renewed when outgrown",
                4,
                64,
                {"--how-renew", "outgrown 1 times", "--keep-chains", "2 chains"}},
        JobCase{"thinned chains",
                1,
                64,
                {"--how-renew", "every 10 sets", "--keep-thin", "every point for 10 days", "--keep-thin",
                 "one a week for 2 months"}}));

// Half-hourly for years: the effort grows with the number of runs.
TEST(ForecastSpeed, ThousandsOfDaysOfHalfHoursEnd) {
  Desk desk;
  write_file(desk.source() + "/list", "tern");
  desk.program.environment["KESTRUM_NOW"] = "2027-01-01T00:10:00Z";
  ASSERT_EQ(desk.define({"--when-runs", "every 30 minutes"}, false).exit, 0);
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  Ran ran = desk({"forecast", "wardens", "--days", "3000", "--json"});
  ASSERT_EQ(ran.exit, 0) << ran.err;
  Json result = Json::parse(ran.out);
  EXPECT_EQ(result["ways"][0]["by-day"].size(), 3001u);
  // Ctrl-C ends it.
  pid_t pid = desk.program.start({"forecast", "wardens", "--days", "3660"});
  usleep(500000);
  kill(pid, SIGINT);
  EXPECT_EQ(Program::wait(pid), 11);
}

}  // namespace
}  // namespace kestrum::test
