// A chain of very many files where a process may open few: everything works, and is exact.
#include <iostream>

#include "program/desk.hpp"
#include "support/extent.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// The program with a limit on its open files, soft and hard.
Ran run_with_limit(Desk& desk, int limit, std::vector<std::string> words) {
  Program shell("/bin/sh");
  shell.environment = desk.program.environment;
  std::vector<std::string> all{"-c", "ulimit -n " + std::to_string(limit) + "; exec \"$@\"", "sh",
                               KESTRUM_BINARY};
  all.insert(all.end(), words.begin(), words.end());
  return shell.run(all);
}

// Each set has a volume and an index; KESTRUM_CHAIN sets, of which the long tier makes a thousand.
TEST(OpenFiles, ALongChainUnderALimitOfSixtyFour) {
  const unsigned runs = extent("KESTRUM_CHAIN", 120);
  Desk desk;
  desk.define({"--how-renew", "never", "--check-after-run", "nothing", "--keep-points", "5000 points"},
              false);
  for (unsigned run = 0; run < runs; ++run) {
    write_file(desk.source() + "/list-" + std::to_string(run), noise(run, 3000));
    if (run == runs - 1) {
      ASSERT_EQ(desk({"job", "edit", "wardens", "--check-after-run", "read back"}).exit, 0);
    }
    Ran ran = run_with_limit(desk, 64, {"run", "wardens", "--quiet"});
    ASSERT_EQ(ran.exit, 0) << run << ": " << ran.err << ran.out;
  }
  std::size_t files = 0;
  for (const auto& entry : fs::recursive_directory_iterator(desk.job_folder()))
    files += entry.path().extension() == ".kvol" || entry.path().extension() == ".kidx" ? 1 : 0;
  EXPECT_GE(files, 2 * static_cast<std::size_t>(runs));
  std::cout << files << " files of a chain of " << runs
            << " sets under ulimit -n 64: run, verify, restore, prune\n";
  Snapshot expected = take_snapshot(desk.source());

  Ran verified = run_with_limit(desk, 64, {"verify", "wardens", "--quiet"});
  EXPECT_EQ(verified.exit, 0) << verified.err << verified.out.substr(0, 500);
  auto restored = [&](const std::string& name) {
    Ran ran = run_with_limit(desk, 64,
                             {"restore", "wardens", desk.source(), "--to", desk.folder / name,
                              "--with-owners", "--with-set-id", "--quiet"});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    return take_snapshot((desk.folder / name) + "/source");
  };
  EXPECT_EQ(compare_snapshots(expected, restored("out")), "");
  ASSERT_EQ(desk({"job", "edit", "wardens", "--keep-points", "2 points"}).exit, 0);
  Ran pruned = run_with_limit(desk, 64, {"prune", "wardens"});
  EXPECT_EQ(pruned.exit, 0) << pruned.err << pruned.out;
  EXPECT_EQ(compare_snapshots(expected, restored("after")), "");
  verified = run_with_limit(desk, 64, {"verify", "wardens", "--quiet"});
  EXPECT_EQ(verified.exit, 0) << verified.err << verified.out.substr(0, 500);
}

}  // namespace
}  // namespace kestrum::test
