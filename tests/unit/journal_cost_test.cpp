// What it costs to write down, in the course of a run, what is finished.
#include <fmt/format.h>
#include <gtest/gtest.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>

#include "support/extent.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Processor time of this process up to now, in seconds.
double busy() {
  rusage used{};
  getrusage(RUSAGE_SELF, &used);
  const auto seconds = [](const timeval& time) {
    return static_cast<double>(time.tv_sec) + static_cast<double>(time.tv_usec) / 1e6;
  };
  return seconds(used.ru_utime) + seconds(used.ru_stime);
}

// How much more the first of each pair took, in percent: the mean, and how sure it is.
std::string compared(const std::vector<double>& with, const std::vector<double>& without) {
  std::vector<double> more;
  for (std::size_t i = 0; i < with.size(); ++i) more.push_back((with[i] / without[i] - 1) * 100);
  const double count = static_cast<double>(more.size());
  const double mean = std::accumulate(more.begin(), more.end(), 0.0) / count;
  double squares = 0;
  for (const double each : more) squares += (each - mean) * (each - mean);
  std::nth_element(more.begin(), more.begin() + static_cast<std::ptrdiff_t>(more.size() / 2), more.end());
  return fmt::format("{:+.2f} % (standard error {:.2f}; median {:+.2f})", mean,
                     std::sqrt(squares / std::max(count - 1, 1.0) / count), more[more.size() / 2]);
}

// What journals cost: of bytes, here; of time, printed for the evidence tier, where the tree is larger and
// runs are paired, each pair the other way round than the last, since these machines have other work as well.
TEST(Journals, CostLittle) {
  const unsigned mib = extent("KESTRUM_JOURNAL_MIB", 24);
  // As jobs usually are: encrypted, and read back.
  Workbench bench;
  write_file(bench.path("pass"), "tern in the fog\n");
  chmod(bench.path("pass").c_str(), 0600);
  bench.set_job(
      "[what]\nfolders = [\"" + bench.source() + "\"]\n[where]\ndestinations = [\"" + bench.drive() +
      "\"]\nsame-disk = \"accept\"\n[protect]\nguard = \"no\"\npassphrase = \"file:" + bench.path("pass") +
      "\"\n");
  bench.settle_files();
  for (unsigned i = 0; i < mib * 8; ++i)
    write_file(bench.source() + "/" + std::to_string(i / 100) + "/" + std::to_string(i), noise(i, 1u << 17));
  std::vector<double> with, without, busy_with, busy_without;
  std::uint64_t stored_with = 0, stored_without = 0;
  const unsigned pairs = extent("KESTRUM_JOURNAL_PAIRS", 1);
  for (unsigned round = 0; round < 2 * pairs; ++round) {
    const bool journals = round % 4 == 0 || round % 4 == 3;
    bench.journal_step = journals ? 16u << 20 : UINT64_MAX;
    fs::remove_all(bench.drive());
    fs::create_directories(bench.drive());
    fs::remove(bench.home().state_file("job"));
    sync();
    const double busy_before = busy();
    const auto begun = std::chrono::steady_clock::now();
    const RunOutcome done = bench.run();
    const std::chrono::duration<double> took = std::chrono::steady_clock::now() - begun;
    ASSERT_TRUE(done.entry.sequence) << done.entry.message;
    (journals ? with : without).push_back(took.count());
    (journals ? busy_with : busy_without).push_back(busy() - busy_before);
    (journals ? stored_with : stored_without) = done.entry.totals.stored_bytes;
  }
  const double share = (static_cast<double>(stored_with) - static_cast<double>(stored_without)) /
                       static_cast<double>(stored_without);
  EXPECT_GT(stored_with, stored_without);
  EXPECT_LT(share, 0.01);
  fmt::print("{} MiB, {} pairs: journals take {:.3f} % of the bytes, of the time {}, of processor time {}\n",
             mib, pairs, share * 100, compared(with, without), compared(busy_with, busy_without));
}

}  // namespace
}  // namespace kestrum::test
