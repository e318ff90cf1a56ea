// Processes killed at random moments of a run, a pruning and a folding, on a folder and on a store for
// objects: every earlier point restores, and the next run works.
#include <gtest/gtest.h>
#include <unistd.h>

#include "support/object_store.hpp"
#include "support/random_kills.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

struct KillCase {
  const char* name;
  bool objects;
};
class StoreKills : public testing::TestWithParam<KillCase> {};

TEST_P(StoreKills, LoseNothing) {
  std::optional<UseObjects> objects;
  if (GetParam().objects) objects.emplace();
  Workbench bench(
      "[how]\nvolume-size = \"64 KiB\"\nrenew = \"never\"\n[protect]\nencryption = \"none\"\n[check]\n"
      "after-run = \"nothing\"\n[keep]\npoints = \"100 points\"\n");
  TreeMaker maker(bench.source(), 31);
  maker.grow(60);
  std::map<Sequence, Snapshot> points;
  std::mt19937 random(7);
  std::array<RandomKills, 3> kills = {RandomKills(8, 60000), RandomKills(9, 60000), RandomKills(10, 60000)};
  for (int round = 0; round < 45; ++round) {
    while (points.size() < 5) {
      Sequence point = bench.run_good();
      ASSERT_NE(point, 0u);
      points[point] = take_snapshot(bench.source());
      maker.churn(5);
    }
    Snapshot now = take_snapshot(bench.source());
    Sequence newest = points.rbegin()->first;
    Sequence middle = std::next(points.begin(), 2)->first;
    if (round % 3 == 2) bench.set_keep("points = \"3 points\"");
    pid_t pid = fork();
    if (pid == 0) {
      try {
        if (round % 3 == 0) bench.run();
        if (round % 3 == 1) bench.fold({}, middle);
        if (round % 3 == 2) prune_job("job", false, bench.context());
      } catch (...) {
        _exit(1);
      }
      _exit(0);
    }
    RandomKills& killing = kills[static_cast<std::size_t>(round % 3)];
    if (!killing.kill(pid)) {
      EXPECT_EQ(killing.exit(), 0) << round;
    }
    bench.set_keep("points = \"100 points\"");
    if (GetParam().objects) usleep(30000);  // until the listings know
    std::vector<Sequence> left = bench.points();
    ASSERT_FALSE(left.empty()) << round;
    if (left.back() > newest) points[left.back()] = now;  // sealed before it died
    EXPECT_GE(left.back(), newest) << round;
    for (Sequence point : {left.front(), left[random() % left.size()], left.back()}) {
      ASSERT_TRUE(points.contains(point)) << round << " point " << point;
      EXPECT_EQ(compare_snapshots(points[point], bench.restored(point)), "") << round << " point " << point;
    }
    Sequence next = bench.run_good();
    points[next] = take_snapshot(bench.source());
    EXPECT_TRUE(bench.verified(Depth::quick).good()) << round;
    left = bench.points();
    std::erase_if(points, [&](const auto& one) {
      return std::find(left.begin(), left.end(), one.first) == left.end();
    });
    EXPECT_EQ(points.size(), left.size()) << round;
    maker.churn(5);
    // So that there is something to fold and to give up again.
    while (points.size() > 8) {
      bench.fold({}, std::next(points.begin(), 3)->first);
      left = bench.points();
      std::erase_if(points, [&](const auto& one) {
        return std::find(left.begin(), left.end(), one.first) == left.end();
      });
    }
  }
  for (const RandomKills& one : kills) EXPECT_GE(one.killed(), 8u) << "of 15";
  EXPECT_TRUE(bench.verified().good());
}

INSTANTIATE_TEST_SUITE_P(Stores, StoreKills,
                         testing::Values(KillCase{"folder", false}, KillCase{"objects", true}),
                         [](const auto& one) { return one.param.name; });

// What any store promises, whichever it is.
class Contract : public testing::TestWithParam<const char*> {
 protected:
  void SetUp() override {
    std::string name = GetParam();
    if (name == "folder") store_ = open_local_store(folder_.path());
    if (name == "memory") store_ = std::make_unique<MemoryStore>();
    if (name == "objects") store_ = open_object_store(folder_.path(), {std::chrono::milliseconds(0), 5});
  }
  std::string content(const std::string& path) {
    std::optional<Bytes> bytes = store_->try_read_all(path, 1u << 20);
    return bytes ? std::string(as_text(*bytes)) : "(none)";
  }
  TempFolder folder_;
  std::unique_ptr<Store> store_;
};

TEST_P(Contract, IsKept) {
  Store& store = *store_;
  store.make_folders("a/b");
  EXPECT_EQ(content("a/b/x"), "(none)");
  EXPECT_FALSE(store.exists("a/b/x"));
  EXPECT_THROW(store.open("a/b/x"), Error);
  {
    std::unique_ptr<StoreWriter> file = store.create("a/b/x");
    file->append(as_bytes("terns "));
    file->append(as_bytes("10"));
    file->flush();
    file->finish();
  }
  EXPECT_EQ(content("a/b/x"), "terns 10");
  store.put("a/b/x", as_bytes("terns 11"));
  EXPECT_EQ(content("a/b/x"), "terns 11");
  EXPECT_EQ(store.holds("a/b/x", as_bytes("terns 11")), true);
  for (const char* other : {"terns 12", "terns 1", "terns 110", ""})
    EXPECT_EQ(store.holds("a/b/x", as_bytes(other)), false) << other;
  EXPECT_EQ(store.holds("a/b/none", as_bytes("terns 11")), std::nullopt);
  Bytes large(20000, 'k');
  store.put("a/b/large", large);
  EXPECT_EQ(store.holds("a/b/large", large), true);
  EXPECT_EQ(store.read_all("a/b/large", large.size()), large);
  large.back() = 'l';
  EXPECT_EQ(store.holds("a/b/large", large), false);
  store.remove("a/b/large");
  EXPECT_TRUE(store.create_exclusive("a/b/lock", as_bytes("mine")));
  EXPECT_FALSE(store.create_exclusive("a/b/lock", as_bytes("yours")));
  EXPECT_EQ(content("a/b/lock"), "mine");
  EXPECT_THROW(store.read_all("a/b/x", 3), Error) << "larger than it may be";
  std::vector<StoreEntry> entries = store.list("a/b");
  ASSERT_EQ(entries.size(), 2u);
  EXPECT_EQ(entries[0].name, "lock");
  EXPECT_EQ(entries[1].size, 8u);
  EXPECT_TRUE(store.list("nowhere").empty());
  Bytes part(2);
  store.open("a/b/x")->read_at(6, part);
  EXPECT_EQ(as_text(part), "11");
  EXPECT_THROW(store.open("a/b/x")->read_at(7, part), Error) << "past the end";
  if (store.traits().appends) {
    std::unique_ptr<StoreWriter> more = store.reopen("a/b/x");
    more->append(as_bytes(", puffins 3"));
    more->finish();
    EXPECT_EQ(content("a/b/x"), "terns 11, puffins 3");
  }
  if (store.traits().renames) {
    store.rename("a/b", "a/c");
    EXPECT_EQ(content("a/c/lock"), "mine");
    store.rename("a/c", "a/b");
  }
  store.remove("a/b/lock");
  store.remove("a/b/lock");
  store.remove_all({"a/b/x", "a/b/none"});
  EXPECT_TRUE(store.list("a/b").empty());
  store.remove_folder("a/b");
  EXPECT_FALSE(store.exists("a/b"));
}

INSTANTIATE_TEST_SUITE_P(Stores, Contract, testing::Values("folder", "memory", "objects"));

// The folder that is held, and nothing beside it.
TEST(LocalStore, FollowsNoLinkAndGoesIntoNoOtherPlace) {
  TempFolder folder;
  std::filesystem::create_directories(folder / "drive/inside");
  write_file(folder / "secret", "not for the drive");
  std::filesystem::create_symlink(folder / "secret", folder / "drive/link");
  std::filesystem::create_directory_symlink(folder.path(), folder / "drive/out");
  auto store = open_local_store(folder / "drive");
  EXPECT_THROW(store->try_open("link"), Error);
  EXPECT_THROW(store->try_open("out/secret"), Error);
  EXPECT_THROW(store->create("out/new"), Error);
  EXPECT_THROW(store->put("out/new", as_bytes("x")), Error);
  EXPECT_THROW(store->try_open("../secret"), Error);
  EXPECT_THROW(store->make_folder("out/new"), Error);
  EXPECT_FALSE(std::filesystem::exists(folder / "new"));
  EXPECT_TRUE(store->still_there());
  // Moved away, it is still what is written to; and it says that its name leads elsewhere now.
  std::filesystem::rename(folder / "drive", folder / "moved");
  std::filesystem::create_directories(folder / "drive");
  EXPECT_FALSE(store->still_there());
  store->put("inside/file", as_bytes("here"));
  EXPECT_EQ(read_file(folder / "moved/inside/file"), "here");
  EXPECT_TRUE(std::filesystem::is_empty(folder / "drive"));
}

}  // namespace
}  // namespace kestrum::test
