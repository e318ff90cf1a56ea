// Ways of bringing files back: from the nearest good point, to other places and owners, into one file.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::IsEmpty;

class RestoreWays : public testing::Test {
 protected:
  std::string source(const std::string& name) const { return bench_.source() + "/" + name; }
  std::string out(const std::string& name = "") const { return bench_.path("out") + "/" + name; }
  RestoreRequest request(const std::vector<std::string>& names) const {
    RestoreRequest request;
    for (const std::string& name : names) request.paths.push_back(*TreePath::parse(source(name)));
    request.target = bench_.path("out");
    return request;
  }
  RestoreResult from(Sequence point, const RestoreRequest& request) {
    std::vector<LookSession> subjects;
    subjects.push_back(bench_.subject());
    PointWish wish;
    if (point != 0) wish = {PointWish::By::number, point, {}};
    items_.clear();
    RunControl control;
    return restore(subjects, 0, wish, request, *bench_.observer, control,
                   [this](const RestoredItem& item) { items_[item.path.absolute()] = item; });
  }
  // Bytes in the middle of a set's volume are another's.
  void spoil(Sequence point) {
    const std::string volume = bench_.set_folder(point) + "/data-001.kvol";
    std::string content = read_file(volume);
    for (std::size_t at = content.size() / 3; at < content.size() * 2 / 3; ++at) content[at] = '\x55';
    write_file(volume, content);
  }
  Error refused(Sequence point, const RestoreRequest& request) {
    try {
      from(point, request);
    } catch (const Error& error) {
      return error;
    }
    return Error(ErrorKind::failed, "nothing was thrown");
  }

  Workbench bench_;
  std::map<std::string, RestoredItem> items_;
};

TEST_F(RestoreWays, WhatDoesNotReadComesFromTheNearestPointThatHasIt) {
  write_file(source("list.csv"), noise(1, 200000));
  write_file(source("same.csv"), noise(2, 1000));
  bench_.run_good();
  const std::string second = noise(3, 200000);
  write_file(source("list.csv"), second);
  bench_.run_good();
  const std::string third = noise(4, 200000);
  write_file(source("list.csv"), third);
  bench_.run_good();
  spoil(2);
  const RestoreResult plain = from(2, request({"list.csv", "same.csv"}));
  EXPECT_TRUE(plain.damaged);
  ASSERT_EQ(plain.problems.size(), 1u);
  EXPECT_THAT(plain.problems[0].reason, HasSubstr("good in point 1 ("));
  EXPECT_THAT(plain.problems[0].reason, HasSubstr("and point 3 ("));
  EXPECT_THAT(plain.problems[0].reason, HasSubstr("--nearest"));
  EXPECT_FALSE(fs::exists(out("list.csv")));
  fs::remove_all(out());
  RestoreRequest wanted = request({"list.csv", "same.csv"});
  wanted.nearest = true;
  const RestoreResult nearest = from(2, wanted);
  EXPECT_FALSE(nearest.damaged);
  EXPECT_EQ(nearest.nearest, 1u);
  EXPECT_EQ(nearest.files, 2u);
  ASSERT_EQ(nearest.problems.size(), 1u);
  EXPECT_THAT(nearest.problems[0].reason, HasSubstr("does not read: it comes from point "));
  const Sequence taken = items_.at(source("list.csv")).point;
  EXPECT_EQ(items_.at(source("same.csv")).point, 2u);
  EXPECT_EQ(read_file(out("list.csv")), taken == 1 ? noise(1, 200000) : third);
}

TEST_F(RestoreWays, APointThatDoesNotOpenIsSaidWithItsNeighbours) {
  for (int i = 1; i <= 3; ++i) {
    write_file(source("list"), "state " + std::to_string(i));
    bench_.run_good(Kind::full);
  }
  fs::remove_all(bench_.set_folder(2));
  const Error missing = refused(2, request({"list"}));
  EXPECT_EQ(missing.kind(), ErrorKind::usage);
  EXPECT_THAT(missing.hint(), HasSubstr("point 1 ("));
  EXPECT_THAT(missing.hint(), HasSubstr("point 3 ("));
  RestoreRequest wanted = request({"list"});
  wanted.nearest = true;
  from(2, wanted);
  EXPECT_EQ(read_file(out("list")), "state 1") << "of two as near, the earlier one";
  // The catalog of it does not read.
  spoil(3);
  const Error damaged = refused(3, request({"list"}));
  EXPECT_THAT(damaged.hint() + damaged.what(), HasSubstr("point 1"));
  fs::remove_all(out());
  const RestoreResult result = from(3, wanted);
  EXPECT_EQ(read_file(out("list")), "state 1");
  EXPECT_FALSE(result.problems.empty() && result.point.sequence == 3);
}

TEST_F(RestoreWays, SetIdBitsAreForTheirOwnPlace) {
  write_file(source("program"), "runs\n");
  chmod(source("program").c_str(), 04755);
  bench_.run_good();
  RestoreRequest wanted = request({"program"});
  wanted.with_owners = true;
  struct stat status {};
  EXPECT_EQ(from(0, wanted).set_id_left, 1u);
  stat(out("program").c_str(), &status);
  EXPECT_EQ(status.st_mode & 07777, 0755u);
  fs::remove_all(out());
  wanted.with_set_id = true;
  EXPECT_EQ(from(0, wanted).set_id_left, 0u);
  stat(out("program").c_str(), &status);
  EXPECT_EQ(status.st_mode & 07777, 04755u);
  fs::remove(source("program"));
  wanted.with_set_id = false;
  wanted.target = "/";
  wanted.in_place = true;
  EXPECT_EQ(from(0, wanted).set_id_left, 0u);
  stat(source("program").c_str(), &status);
  EXPECT_EQ(status.st_mode & 07777, 04755u) << "in place, by root";
}

TEST_F(RestoreWays, OwnersByNameNumberOrNone) {
  write_file(source("list"), "x");
  ASSERT_EQ(chown(source("list").c_str(), 1, 1), 0);  // daemon
  bench_.run_good();
  RestoreRequest wanted = request({"list"});
  wanted.with_owners = true;
  const auto owner = [&](OwnersAs how) {
    fs::remove_all(out());
    wanted.owners = how;
    EXPECT_FALSE(from(0, wanted).owners_kept_back);
    struct stat status {};
    stat(out("list").c_str(), &status);
    return status.st_uid;
  };
  EXPECT_EQ(owner(OwnersAs::names), 1u);
  EXPECT_EQ(owner(OwnersAs::numbers), 1u);
  EXPECT_EQ(owner(OwnersAs::mine), geteuid());
}

// A home that was moved to another disk, with a link in its old place.
TEST_F(RestoreWays, InPlaceThroughALinkThatStandsForTheSource) {
  write_file(source("deep/list"), "terns");
  bench_.run_good();
  fs::rename(bench_.source(), bench_.path("elsewhere"));
  fs::remove_all(bench_.path("elsewhere/deep"));
  fs::create_directory_symlink(bench_.path("elsewhere"), bench_.source());
  RestoreRequest wanted = request({"deep"});
  wanted.in_place = true;
  wanted.target = "/";
  EXPECT_THAT(from(0, wanted).problems, IsEmpty());
  EXPECT_EQ(read_file(bench_.path("elsewhere/deep/list")), "terns");
  // A link further down is no source: nothing goes through it.
  fs::remove_all(bench_.path("elsewhere/deep"));
  fs::create_directories(bench_.path("trap"));
  fs::create_directory_symlink(bench_.path("trap"), bench_.path("elsewhere/deep"));
  EXPECT_FALSE(from(0, wanted).problems.empty());
  EXPECT_THAT(take_snapshot(bench_.path("trap")).size(), 1u);
  // Neither is a link that somebody else than root put there, for root.
  fs::remove(bench_.path("elsewhere/deep"));
  ASSERT_EQ(lchown(bench_.source().c_str(), 1, 1), 0);
  EXPECT_EQ(refused(0, wanted).kind(), ErrorKind::failed);
  EXPECT_FALSE(fs::exists(bench_.path("elsewhere/deep")));
}

TEST_F(RestoreWays, NothingIsRestoredAmongTheArchiveSets) {
  write_file(source("list"), "x");
  bench_.run_good();
  RestoreRequest wanted = request({"list"});
  for (const std::string& target : {bench_.drive() + "/back", bench_.drive(), bench_.path("link/back")}) {
    fs::remove(bench_.path("link"));
    fs::create_directory_symlink(bench_.drive(), bench_.path("link"));
    wanted.target = target;
    EXPECT_EQ(refused(0, wanted).kind(), ErrorKind::usage) << target;
  }
  EXPECT_FALSE(fs::exists(bench_.drive() + "/back"));
}

TEST_F(RestoreWays, AFileThatIsMadeIsWholeOrNotThere) {
  write_file(source("a"), noise(5, 3000000));
  write_file(source("b"), noise(6, 40u << 20));
  bench_.run_good();
  RestoreRequest wanted = request({""});
  wanted.into = RestoreInto::archive;
  fs::create_directories(out());
  for (const std::string ending : {".zip", ".tar.zst"}) {
    wanted.target = out("it" + ending);
    const RestoreResult whole = from(0, wanted);
    EXPECT_EQ(whole.archive_bytes, fs::file_size(wanted.target));
    EXPECT_EQ(refused(0, wanted).kind(), ErrorKind::usage) << "nothing is written over";
  }
  wanted.target = out("it.rar");
  EXPECT_EQ(refused(0, wanted).kind(), ErrorKind::usage);
  wanted.target = out("no/such/it.zip");
  EXPECT_EQ(refused(0, wanted).kind(), ErrorKind::usage);
  // Stopped, and killed: nothing is left.
  fs::remove_all(out());
  fs::create_directories(out());
  wanted.target = out("it.zip");
  const pid_t child = fork();
  if (child == 0) {
    struct KillsItself : Observer {
      void file_begins(const std::string& path, std::uint64_t) override {
        if (path.ends_with("/b")) kill(getpid(), SIGKILL);
      }
    } killer;
    bench_.observer = &killer;
    from(0, wanted);
    _exit(0);
  }
  int status = 0;
  waitpid(child, &status, 0);
  EXPECT_TRUE(WIFSIGNALED(status));
  EXPECT_EQ(take_snapshot(out()).size(), 1u);
  // Damaged: the rest is in it, and it is told.
  spoil(1);
  const RestoreResult rest = from(0, wanted);
  EXPECT_TRUE(rest.damaged);
  EXPECT_FALSE(rest.problems.empty());
}

TEST_F(RestoreWays, ARestoreThatWasKilledLeavesWholeFilesAndGoesOn) {
  for (int i = 0; i < 30; ++i)
    write_file(source("n" + std::to_string(i)), noise(static_cast<unsigned>(i), 100000));
  bench_.run_good();
  const pid_t child = fork();
  if (child == 0) {
    struct KillsItself : Observer {
      void advanced(std::uint64_t bytes, std::uint64_t) override {
        done += bytes;
        if (done > 1000000) kill(getpid(), SIGKILL);
      }
      std::uint64_t done = 0;
    } killer;
    bench_.observer = &killer;
    from(0, request({""}));
    _exit(0);
  }
  int status = 0;
  waitpid(child, &status, 0);
  ASSERT_TRUE(WIFSIGNALED(status));
  const Snapshot left = take_snapshot(out());
  EXPECT_GT(left.size(), 3u);
  const Snapshot whole = take_snapshot(bench_.source());
  for (const auto& [path, what] : left) {
    if (what.type != 'f') continue;
    const auto original = whole.find(path.substr(path.find('/') + 1));
    ASSERT_TRUE(original != whole.end()) << path << " is none of ours";
    EXPECT_EQ(what.content, original->second.content) << path;
  }
  const RestoreResult rest = from(0, request({""}));
  EXPECT_EQ(rest.files + rest.same, 30u);
  EXPECT_GT(rest.same, 3u);
}

TEST_F(RestoreWays, DigestsAreThoseOfTheFiles) {
  write_file(source("list"), std::string("\0\1\2", 3));
  ASSERT_EQ(link(source("list").c_str(), source("other").c_str()), 0);
  ASSERT_EQ(truncate(source("hole").c_str(), 0), -1);
  write_file(source("hole"), "");
  ASSERT_EQ(truncate(source("hole").c_str(), 3000000), 0);
  bench_.run_good();
  RestoreRequest wanted = request({""});
  wanted.digests = true;
  for (const bool again : {false, true}) {
    from(0, wanted);
    // As sha256sum says.
    EXPECT_EQ(items_.at(source("list")).sha256,
              "ae4b3280e56e2faf83f414a6e3dabe9d5fbe18976544c05fed121accb85b53fc")
        << again;
    EXPECT_EQ(items_.at(source("other")).sha256, items_.at(source("list")).sha256);
    EXPECT_EQ(items_.at(source("hole")).sha256,
              "35bce4eae54ec8e6cc2868baa8d157914d6ae2858811b4cc0c078c94460fa26f")
        << again;
  }
}

}  // namespace
}  // namespace kestrum::test
