// Sets that earlier versions have made: they are read for ever. Never made anew, only added to.
#include <gtest/gtest.h>

#include <filesystem>

#include "engine/restore.hpp"
#include "engine/verify.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {
namespace {

struct GoldenCase {
  const char* folder;
  const char* job;
  const char* source;
  const char* below;  // of the expected tree
  std::vector<Sequence> points;
};

class Golden : public testing::TestWithParam<GoldenCase> {};

TEST_P(Golden, EveryPointReadsAsItWas) {
  const GoldenCase& one = GetParam();
  std::string root = std::string(KESTRUM_SOURCE) + "/tests/golden/" + one.folder;
  TempFolder folder;
  write_file(folder / "pass", "grey seal under the pier\n");
  chmod((folder / "pass").c_str(), 0600);
  SubjectOptions options;
  options.subject = root + "/drive/";
  options.job = one.job;
  options.passphrase = "file:" + folder / "pass";
  LookSession session = LookSession::open(nullptr, options);
  Observer silent;
  RunControl control;
  EXPECT_TRUE(verify(session, {}, SystemClock(), nullptr, silent, control).good());
  std::vector<Sequence> points;
  for (const FoundSet& set : session.sets()) {
    if (set.sealed()) points.push_back(set.folder.sequence);
  }
  EXPECT_EQ(points, one.points);
  for (Sequence point : points) {
    RestoreRequest request;
    request.paths = {*TreePath::parse(one.source)};
    request.target = folder / std::to_string(point);
    restore(session, {PointWish::By::number, point, {}}, request, silent, control, {});
    std::map<std::string, std::string> was, is;
    std::string name = std::string(one.source).substr(std::string(one.source).rfind('/'));
    for (const auto& [path, file] : take_snapshot(root + "/expected/" + std::to_string(point) + one.below))
      was[path] = file.content;
    for (const auto& [path, file] : take_snapshot(request.target + name)) is[path] = file.content;
    EXPECT_FALSE(was.empty());
    EXPECT_EQ(was, is) << "point " << point;
  }
}

INSTANTIATE_TEST_SUITE_P(
    Versions, Golden,
    testing::Values(
        GoldenCase{"before-needs", "wardens", "/srv/skerry-golden", "", {1, 3, 4, 5}},
        // One that was begun by one run and finished by another: its first volume ends with a journal.
        GoldenCase{"resumed", "sounds", "/srv/skerry-golden/sounds", "/sounds", {1}},
        GoldenCase{"before-needs", "moths", "/srv/skerry-golden/moths", "/moths", {1, 2, 3, 4, 5}}),
    [](const auto& one) {
      std::string name = std::string(one.param.folder) + "_" + one.param.job;
      std::replace(name.begin(), name.end(), '-', '_');
      return name;
    });

}  // namespace
}  // namespace kestrum::test
