// A chain of all kinds of sets, and what of its files does not come back: by restoring every file of every
// point.
#pragma once

#include <gtest/gtest.h>

#include "engine/repair.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {

using BadFiles = std::map<Sequence, std::set<std::string>>;  // paths below the source, of each point

class RepairChain : private InMemory {
 public:
  explicit RepairChain(const std::string& protect = "parity = \"5%\"\n", unsigned points = 10)
      : bench(
            "[how]\nvolume-size = \"256 KiB\"\nrenew = \"never\"\n[protect]\nencryption = \"none\"\nguard = "
            "\"no\"\n" +
            protect + "[check]\nafter-run = \"nothing\"\n[keep]\npoints = \"100 points\"\n") {
    bench.settle_files();
    for (unsigned i = 0; i < 12; ++i) file(i, 3000 + i * 17000);
    // As many again as are folded away.
    for (unsigned i = 0; i < points + 1; ++i) {
      file(i % 12, 5000 + i * 9000);
      file(20 + i, 40000);
      if (i == 7) std::filesystem::remove(bench.source() + "/2");
      const Kind kind = i == 0 || i == 6 ? Kind::full : i == 4 ? Kind::differential : Kind::incremental;
      const Sequence point = bench.run_good(kind);
      models[point] = take_snapshot(bench.source());
    }
    if (points > 4) {
      EXPECT_EQ(bench.fold(2, 3), 1u);
      models.erase(2);
    }
    // Nothing of it is to be had from today's files.
    std::filesystem::rename(bench.source(), bench.path("away"));
    keep();
  }

  void file(unsigned name, std::size_t size) {
    write_file(bench.source() + "/" + std::to_string(name), noise(++seed_, size));
  }
  // As it is now, and back to it.
  void keep() {
    std::filesystem::remove_all(bench.path("kept"));
    std::filesystem::copy(bench.drive(), bench.path("kept"), std::filesystem::copy_options::recursive);
  }
  void back() {
    std::filesystem::remove_all(bench.drive());
    std::filesystem::copy(bench.path("kept"), bench.drive(), std::filesystem::copy_options::recursive);
  }

  // Restoring every file of every point.
  BadFiles bad_files() {
    BadFiles bad;
    for (const auto& [point, model] : models) {
      const std::string target = bench.path("out");
      try {
        bench.restore_to(target, point);
      } catch (const Error& error) {
        EXPECT_TRUE(error.kind() == ErrorKind::damage || error.kind() == ErrorKind::usage) << error.what();
      }
      Snapshot found;
      if (std::filesystem::exists(target + "/source")) found = take_snapshot(target + "/source");
      for (const auto& [path, seen] : model) {
        if (seen.type != 'f') continue;
        const auto there = found.find(path);
        if (there == found.end() || there->second.content != seen.content) bad[point].insert(path);
      }
      // A wrong byte under a final name is worse than none.
      for (const auto& [path, seen] : found) {
        if (seen.type == 'f') {
          EXPECT_TRUE(model.contains(path) && model.at(path).content == seen.content)
              << point << ": " << path;
        }
      }
      std::filesystem::remove_all(target);
    }
    return bad;
  }

  // The verdict against what restoring has shown.
  void expect_exact(const VerifyResult& result, const BadFiles& bad) {
    std::set<Sequence> told;
    for (const PointVerdict& verdict : result.points) {
      if (!models.contains(verdict.sequence)) continue;
      told.insert(verdict.sequence);
      const auto found = bad.find(verdict.sequence);
      const std::set<std::string> expected = found == bad.end() ? std::set<std::string>() : found->second;
      std::set<std::string> named;
      bool gap = false;
      for (const AffectedFile& file : verdict.affected) {
        gap = gap || file.reason.find("list of files") != std::string::npos || file.path == "/";
        if (file.path.size() > bench.source().size())
          named.insert(file.path.substr(bench.source().size() + 1));
      }
      if (!gap) {
        EXPECT_EQ(named, expected) << "point " << verdict.sequence;
      } else {
        EXPECT_FALSE(verdict.good()) << "point " << verdict.sequence;
      }
      if (!expected.empty()) {
        EXPECT_FALSE(verdict.good()) << "point " << verdict.sequence;
      }
    }
    // One whose seals are gone is none any more: it is told by the folder.
    for (const auto& [point, files] : bad) {
      if (!told.contains(point)) {
        EXPECT_TRUE(result.damaged()) << point;
      }
    }
  }

  std::vector<RepairResult> repair(const RepairRequest& request = {}) {
    return repair_job("job", request, bench.context());
  }
  // Volumes, of all sets.
  std::map<std::string, std::string> volumes(const std::string& below) const {
    std::map<std::string, std::string> all;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(below)) {
      if (entry.path().extension() == ".kvol")
        all[entry.path().string().substr(below.size())] = read_file(entry.path().string());
    }
    return all;
  }
  std::vector<std::string> files(const std::string& ending) const {
    std::vector<std::string> all;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(bench.drive() + "/skerry-1/job")) {
      if (entry.is_regular_file() && entry.path().string().ends_with(ending))
        all.push_back(entry.path().string());
    }
    std::sort(all.begin(), all.end());
    return all;
  }

  Workbench bench;
  std::map<Sequence, Snapshot> models;

 private:
  unsigned seed_ = 0;
};

inline bool is_within(const BadFiles& after, const BadFiles& before) {
  for (const auto& [point, files] : after) {
    const auto found = before.find(point);
    if (found == before.end()) return false;
    for (const std::string& file : files) {
      if (!found->second.contains(file)) return false;
    }
  }
  return true;
}

inline std::size_t count(const BadFiles& bad) {
  std::size_t files = 0;
  for (const auto& [point, paths] : bad) files += paths.size();
  return files;
}

}  // namespace kestrum::test
