// Watched sources in which folders are tagged as caches, and are no caches any more.
#include "support/watched.hpp"

namespace kestrum::test {
namespace {

TEST_P(Watched, FoldersThatAreTaggedAsCachesComeAndGo) {
  const std::string source = bench_.source();
  for (const char* name : {"tiles/1", "tiles/deep/2", "list/1"}) write_file(source + "/" + name, name);
  begin();
  run();
  write_file(source + "/tiles/CACHEDIR.TAG", cache_tag);
  EXPECT_EQ(run().entry.totals.gone_files, 2u);
  EXPECT_TRUE(looked_at_a_part());
  write_file(source + "/tiles/3", "made again any time");
  write_file(source + "/tiles/deep/4", "so is this");
  write_file(source + "/list/2", "not this");
  const RunOutcome outcome = run();
  EXPECT_TRUE(looked_at_a_part());
  EXPECT_EQ(outcome.entry.totals.new_files, 1u);
  EXPECT_EQ(outcome.entry.totals.files, 2u);
  // One that was tagged when the watching began is looked into once the tag has gone.
  begin();
  run();
  write_file(source + "/tiles/3", "changed in the cache");
  EXPECT_FALSE(watch_->activity());
  fs::remove(source + "/tiles/CACHEDIR.TAG");
  EXPECT_EQ(told_at_once(), GetParam() == Way::file_systems);
  EXPECT_EQ(run().entry.totals.new_files, 4u);
  EXPECT_EQ(looked_at_a_part(), GetParam() == Way::file_systems);
  write_file(source + "/tiles/deep/4", "changed again");
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(looked_at_a_part());
}

// However a tag goes, and whatever of its folder the watch has met before.
TEST_P(Watched, WhatWasACacheIsWatchedAfterwards) {
  const std::string source = bench_.source();
  const std::string tag = source + "/tiles/CACHEDIR.TAG";
  for (const char* name : {"tiles/1", "tiles/deep/2"}) write_file(source + "/" + name, name);
  const std::vector<std::function<void()>> ways_to_go = {[&] { fs::remove(tag); },
                                                         [&] { write_file(tag, "Signature: none"); },
                                                         [&] { fs::rename(tag, source + "/tiles/TAG"); }};
  for (std::size_t i = 0; i < ways_to_go.size(); ++i) {
    write_file(tag, cache_tag);
    begin();
    run();
    if (i != 1) write_file(source + "/tiles/deep/2", "in the cache " + std::to_string(i));
    if (i == 2) write_file(source + "/tiles/1", "in the cache, too");
    EXPECT_FALSE(watch_->activity());
    ways_to_go[i]();
    EXPECT_EQ(told_at_once(), GetParam() == Way::file_systems);
    write_file(source + "/tiles/deep/2", "none any more");
    EXPECT_TRUE(watch_->activity()) << i;
    EXPECT_GE(run().entry.totals.new_files, 2u) << i;
    write_file(source + "/tiles/deep/2", "no cache any more " + std::to_string(i));
    EXPECT_EQ(run().entry.totals.changed_files, 1u) << i;
    EXPECT_TRUE(looked_at_a_part()) << i;
  }
}

// What changed in a cache was not told; a set that builds on one from before the tag has it all the same.
TEST_P(Watched, ATagComesAndGoesSinceTheFullSet) {
  const std::string text = bench_.home().load_job("job").text;
  bench_.set_job(text + "[how]\nkind = \"differential\"\n");
  const std::string source = bench_.source();
  for (const char* name : {"tiles/1", "tiles/deep/2", "list/1"}) write_file(source + "/" + name, name);
  begin();
  run();
  run();
  write_file(source + "/tiles/CACHEDIR.TAG", cache_tag);
  EXPECT_EQ(run().entry.totals.gone_files, 2u);
  // A watch of the file system forgets what it knew of folders when one is made anywhere.
  fs::create_directory(bench_.path("elsewhere"));
  write_file(source + "/tiles/deep/2", "changed in the cache");
  fs::create_directory(bench_.path("elsewhere/again"));
  fs::remove(source + "/tiles/CACHEDIR.TAG");
  const RunOutcome outcome = run();
  EXPECT_TRUE(looked_at_a_part());
  EXPECT_EQ(outcome.entry.totals.changed_files, 1u);
  EXPECT_EQ(first_difference(listed(4), listed(run(true).entry.sequence.value())), "");
}

}  // namespace
}  // namespace kestrum::test
