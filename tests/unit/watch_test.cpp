// Watching sources, and runs that look only where something happened: whatever happens, the point they make
// is the one that a look at everything would make.
#include "support/watched.hpp"

namespace kestrum::test {
namespace {

void give_each_name_a_file(const std::string& source) {
  std::vector<std::string> files;
  for (const fs::directory_entry& entry : fs::recursive_directory_iterator(source)) {
    if (entry.is_regular_file() && !entry.is_symlink() && entry.hard_link_count() > 1)
      files.push_back(entry.path());
  }
  for (const std::string& file : files) {
    const std::string content = read_file(file);
    fs::remove(file);
    write_file(file, content);
  }
}

INSTANTIATE_TEST_SUITE_P(Ways, Watched, testing::Values(Way::folders, Way::file_systems),
                         [](const auto& one) { return name_of(one.param); });

TEST_P(Watched, ARunSeesOnlyWhatHappenedAndMissesNothing) {
  bench_.settle_files();
  const std::string source = bench_.source();
  for (int i = 0; i < 40; ++i)
    for (int j = 0; j < 30; ++j)
      write_file(source + "/d" + std::to_string(i) + "/f" + std::to_string(j), "x");
  begin();
  run();
  EXPECT_FALSE(looked_at_a_part());

  write_file(source + "/d7/f3", "changed");
  write_file(source + "/d9/new", "new");
  fs::remove(source + "/d11/f0");
  fs::remove_all(source + "/d12");
  fs::rename(source + "/d13", source + "/d14/moved");
  fs::create_directories(source + "/d15/deep/er");
  write_file(source + "/d15/deep/er/file", "down there");
  chmod((source + "/d16/f1").c_str(), 0600);
  chmod((source + "/d17").c_str(), 0700);
  fs::remove(source + "/d18/f0");
  fs::create_directory(source + "/d18/f0");
  fs::remove_all(source + "/d19");
  write_file(source + "/d19", "a file now");
  const RunOutcome outcome = run();
  EXPECT_TRUE(looked_at_a_part()) << noted_.notes.back();
  EXPECT_TRUE(outcome.problems.empty()) << outcome.problems[0].reason;
  const SetTotals& totals = outcome.entry.totals;
  EXPECT_EQ(totals.new_files, 1u + 30 + 1);
  EXPECT_EQ(totals.changed_files, 3u);  // one was a folder
  EXPECT_EQ(totals.gone_files, 1u + 30 + 30 + 30);
  EXPECT_EQ(compare_snapshots(take_snapshot(source), bench_.restored(*outcome.entry.sequence)), "");

  const RunOutcome whole = run_told(true);
  EXPECT_TRUE(whole.problems.empty()) << whole.problems[0].path;
  EXPECT_EQ(whole.entry.totals.new_files + whole.entry.totals.changed_files + whole.entry.totals.gone_files,
            0u);
  EXPECT_EQ(whole.entry.totals.files, totals.files);
  EXPECT_EQ(whole.entry.totals.folders, totals.folders);
  EXPECT_EQ(whole.entry.totals.others, totals.others);
  EXPECT_EQ(whole.entry.totals.bytes, totals.bytes);
  EXPECT_EQ(first_difference(listed(*outcome.entry.sequence), listed(*whole.entry.sequence)), "");
}

TEST_P(Watched, WhateverHappensThePointIsThatOfALookAtEverything) {
  int parts = 0;
  // Such days are no ordinary ones.
  std::string text = bench_.home().load_job("job").text;
  bench_.set_job(text.insert(text.find("[protect]\n") + 10, "guard = \"no\"\n"));
  for (unsigned seed = 1; seed <= 2; ++seed) {
    const std::string source = bench_.source();
    TreeMaker maker(source, seed);
    if (seed == 1) maker.grow(300);
    begin();
    run();
    for (int round = 0; round < 10; ++round) {
      maker.churn(8);
      // Folders go from one place to another, and others take their place.
      std::vector<std::string> folders;
      for (const fs::directory_entry& entry : fs::recursive_directory_iterator(source)) {
        if (entry.is_directory() && !entry.is_symlink()) folders.push_back(entry.path());
      }
      if (!folders.empty()) {
        const std::string& one = folders[maker.number(static_cast<unsigned>(folders.size()))];
        const std::string& into = folders[maker.number(static_cast<unsigned>(folders.size()))];
        const std::string to = into + "/moved" + std::to_string(round);
        if (!(to + "/").starts_with(one + "/") && maker.number(2) == 0) {
          std::error_code code;
          fs::rename(one, to, code);
          write_file(one + "/in its place", "instead");
        } else if (maker.number(4) == 0) {
          fs::remove_all(one);
        }
      }
      // With many files of several names there is a doubt in nearly every run: half of the time there are
      // none.
      if (seed == 2) give_each_name_a_file(source);
      const RunOutcome outcome = run();
      parts += looked_at_a_part() ? 1 : 0;
      ASSERT_EQ(compare_snapshots(take_snapshot(source), bench_.restored(*outcome.entry.sequence)), "")
          << "seed " << seed << ", round " << round;
      if (round % 4 != 3) continue;
      const RunOutcome whole = run_told(true);
      ASSERT_TRUE(whole.problems.empty()) << whole.problems[0].path << " " << whole.problems[0].reason;
      ASSERT_EQ(first_difference(listed(*outcome.entry.sequence), listed(*whole.entry.sequence)), "")
          << "seed " << seed << ", round " << round;
      handed_ = {};
    }
  }
  EXPECT_GE(parts, 8);
}

TEST_P(Watched, WhatWatchingMissedIsFoundByALookAtEverythingAndTold) {
  const std::string source = bench_.source();
  for (const char* name : {"a/1", "b/1", "b/2", "c/1", "c/2", "d/1"}) write_file(source + "/" + name, name);
  begin();
  run();
  std::this_thread::sleep_for(std::chrono::milliseconds(2500));
  write_file(source + "/a/1", "told");
  for (const char* name : {"b/1", "b/3", "c/2", "d/2", "d/3"}) write_file(source + "/" + name, "untold");
  fs::remove(source + "/c/1");
  handed_ = *watch_->hand_over();
  for (const char* folder : {"b", "c", "d"}) handed_.folders.erase(tree_path(source + "/" + folder));
  std::this_thread::sleep_for(std::chrono::milliseconds(3500));
  // A run that looks only where something is said to have happened cannot know.
  const RunOutcome part = run_told(false);
  EXPECT_TRUE(looked_at_a_part());
  EXPECT_EQ(part.entry.totals.changed_files, 1u);
  EXPECT_EQ(bench_.restored(*part.entry.sequence)["b/1"].content, "b/1");
  const RunOutcome whole = run_told(true);
  EXPECT_EQ(whole.entry.result, RunResult::done_with_problems);
  ASSERT_EQ(whole.problems.size(), 4u);
  EXPECT_EQ(whole.problems[0].path, source + "/b/1");
  EXPECT_EQ(whole.problems[0].operation, "notice the change of");
  EXPECT_EQ(whole.problems[3].path, "");
  EXPECT_NE(whole.problems[3].reason.find("missed 3 more"), std::string::npos) << whole.problems[3].reason;
  EXPECT_EQ(compare_snapshots(take_snapshot(source), bench_.restored(*whole.entry.sequence)), "");
}

TEST_P(Watched, WhatHappensWhileEverythingIsLookedAtWasNotMissed) {
  const std::string source = bench_.source();
  for (const char* name : {"a/1", "b/1", "c/1"}) write_file(source + "/" + name, name);
  begin();
  run();
  handed_ = *watch_->hand_over();
  write_file(source + "/a/1", "after the note");
  write_file(source + "/b/2", "new after it");
  fs::remove(source + "/c/1");
  const RunOutcome whole = run_told(true);
  EXPECT_TRUE(whole.problems.empty()) << whole.problems[0].path;
  EXPECT_EQ(whole.entry.totals.gone_files, 1u);
}

TEST_P(Watched, WhatDoesNotFitIsADoubtAndEverythingIsLookedAt) {
  const std::string source = bench_.source();
  for (const char* name : {"a/x/1", "b/y/1", "c/1"}) write_file(source + "/" + name, name);
  begin();
  run();
  const auto doubted = [&](const std::vector<std::string>& left_out, const char* why) {
    handed_ = *watch_->hand_over();
    for (const std::string& folder : left_out) handed_.folders.erase(tree_path(source + folder));
    const RunOutcome outcome = run_told(false);
    EXPECT_TRUE(noted_.says(why)) << why << "; " << noted_.notes.back();
    EXPECT_TRUE(noted_.says("everything is looked at")) << why;
    EXPECT_TRUE(outcome.problems.empty()) << why;
    EXPECT_EQ(compare_snapshots(take_snapshot(source), bench_.restored(*outcome.entry.sequence)), "") << why;
  };
  // Another folder in the place of one.
  fs::rename(source + "/a/x", bench_.path("out"));
  write_file(source + "/a/x/2", "another");
  doubted({"/a/x"}, "is another folder than before");
  // A changed folder that is gone, and nobody said so.
  fs::remove_all(source + "/b");
  handed_ = *watch_->hand_over();
  handed_.folders.clear();
  handed_.folders[tree_path(source + "/b/y")] = {{}, handed_.period};
  const Sequence without = *run_told(false).entry.sequence;
  EXPECT_TRUE(noted_.says("is gone, and nothing told of it")) << noted_.notes.back();
  EXPECT_EQ(compare_snapshots(take_snapshot(source), bench_.restored(without)), "");
  // Another name of a file, where nothing happened.
  fs::create_hard_link(source + "/c/1", source + "/a/second");
  doubted({"/c"}, "has several names");
  write_file(source + "/a/second", "both change");
  doubted({"/c"}, "has several names");
  fs::remove(source + "/a/second");
  doubted({"/c"}, "had several names");
}

TEST_P(Watched, AnotherWatchAnotherSelectionOrAgesMeanALookAtEverything) {
  const std::string source = bench_.source();
  write_file(source + "/a/1", "one");
  write_file(source + "/b/list.xyz", "left out later");
  begin();
  run();
  write_file(source + "/a/1", "two");
  run();
  EXPECT_TRUE(looked_at_a_part());
  // Begun anew: nobody knows what happened in between.
  begin();
  write_file(source + "/a/1", "three");
  EXPECT_EQ(run().entry.totals.changed_files, 1u);
  EXPECT_TRUE(noted_.says("nobody watched since"));
  run();
  EXPECT_TRUE(looked_at_a_part());
  // What is left out changed, and with it what the base should hold.
  const std::string text = bench_.home().load_job("job").text;
  bench_.set_job("[what]\nskip = [\"*.xyz\"]\n" + text.substr(text.find('\n') + 1));
  EXPECT_EQ(run().entry.totals.gone_files, 1u);
  EXPECT_FALSE(looked_at_a_part());
  // What is too old today was not yesterday, and nothing happens to it.
  bench_.set_job("[what]\nskip-older = \"5 years\"\n" + text.substr(text.find('\n') + 1));
  begin();
  run();
  run();
  EXPECT_FALSE(looked_at_a_part());
}

// A full set, and one that builds on an older one than the newest, know what they build on.
TEST_P(Watched, DifferentialSetsTakeAlongWhatHappenedSinceTheirFullOne) {
  const std::string text = bench_.home().load_job("job").text;
  bench_.set_job(text + "[how]\nkind = \"differential\"\n");
  const std::string source = bench_.source();
  for (int i = 0; i < 9; ++i) write_file(source + "/d" + std::to_string(i) + "/f", "0");
  begin();
  run();
  for (int i = 1; i < 5; ++i) {
    write_file(source + "/d" + std::to_string(i) + "/f", std::to_string(i));
    const RunOutcome outcome = run();
    EXPECT_TRUE(looked_at_a_part());
    EXPECT_EQ(outcome.entry.totals.changed_files, static_cast<std::uint64_t>(i));
    EXPECT_EQ(compare_snapshots(take_snapshot(source), bench_.restored(*outcome.entry.sequence)), "");
  }
}

// The guard is not told of what nobody looks at.
TEST_P(Watched, WhatIsTakenOverUnseenIsNoEvidence) {
  const std::string text = bench_.home().load_job("job").text;
  bench_.set_job(text + "[how]\nkind = \"differential\"\n");
  bench_.settle_files();
  const std::string source = bench_.source();
  for (int i = 0; i < 40; ++i)
    for (int j = 0; j < 30; ++j)
      write_file(source + "/d" + std::to_string(i) + "/f" + std::to_string(j), "0");
  begin();
  run();
  for (int i = 1; i < 7; ++i) {
    write_file(source + "/d" + std::to_string(i) + "/f1", std::to_string(i));
    const RunOutcome outcome = run();
    EXPECT_TRUE(looked_at_a_part());
    EXPECT_EQ(outcome.entry.result, RunResult::done) << outcome.entry.message;
  }
}

TEST_P(Watched, NewsAreWhatCountsAndNothingElse) {
  const std::string source = bench_.source();
  const std::string text = bench_.home().load_job("job").text;
  bench_.set_job("[what]\nskip = [\"*.part\", \"scratch/\"]\n" + text.substr(text.find('\n') + 1));
  write_file(source + "/scratch/deep/1", "left out");
  write_file(source + "/own/ledger", "ours");
  write_file(source + "/a/1", "one");
  write_file(bench_.path("beside/1"), "not ours");
  quiet_ = {tree_path(source + "/own")};
  begin();
  EXPECT_FALSE(watch_->activity()->doubt.empty());  // nobody watched before
  watch_->hand_over();
  write_file(source + "/scratch/deep/1", "changed");
  write_file(source + "/scratch/new/1", "new");
  write_file(source + "/a/2.part", "coming");
  write_file(bench_.path("beside/1"), "changed");
  EXPECT_FALSE(watch_->activity());
  // What this machine keeps for itself is no news, but where it is saved it is looked at.
  write_file(source + "/own/ledger", "changed");
  EXPECT_FALSE(watch_->activity());
  EXPECT_TRUE(watch_->hand_over()->folders.contains(tree_path(source + "/own")));
  fs::rename(source + "/a/2.part", source + "/a/2");
  ASSERT_TRUE(watch_->activity());
  EXPECT_TRUE(watch_->activity()->doubt.empty());
  const ChangeWatch::HandOver told = *watch_->hand_over();
  EXPECT_TRUE(told.folders.contains(tree_path(source + "/a")));
  EXPECT_FALSE(watch_->activity());
  // Until everybody has it, it is remembered; a run that came to nothing makes it news again.
  watch_->again();
  EXPECT_TRUE(watch_->activity());
  EXPECT_TRUE(watch_->hand_over()->folders.contains(tree_path(source + "/a")));
  watch_->forget_until(told.period);
  EXPECT_FALSE(watch_->hand_over()->folders.contains(tree_path(source + "/a")));
}

TEST_P(Watched, FoldersThatComeAreWatchedWithAllThatIsInThem) {
  const std::string source = bench_.source();
  begin();
  fs::create_directories(source + "/one/two/three");
  fs::create_directories(bench_.path("outside/deep/er"));
  watch_->hand_over();
  fs::rename(bench_.path("outside"), source + "/one/came");
  std::optional<ChangeWatch::HandOver> told = watch_->hand_over();
  EXPECT_EQ(told->folders[tree_path(source + "/one/came")].change.how, How::whole);
  write_file(source + "/one/came/deep/er/file", "x");
  write_file(source + "/one/two/three/file", "x");
  told = watch_->hand_over();
  EXPECT_EQ(told->folders[tree_path(source + "/one/came/deep/er")].period, told->period);
  EXPECT_EQ(told->folders[tree_path(source + "/one/two/three")].period, told->period);
  // What goes out is not followed.
  fs::rename(source + "/one/came", bench_.path("outside"));
  watch_->hand_over();
  write_file(bench_.path("outside/deep/er/file"), "y");
  EXPECT_FALSE(watch_->activity());
  // Renamed in place, it is known by its new name.
  fs::rename(source + "/one", source + "/uno");
  watch_->hand_over();
  write_file(source + "/uno/two/three/file", "y");
  told = watch_->hand_over();
  EXPECT_EQ(told->folders[tree_path(source + "/uno/two/three")].period, told->period);
}

TEST_P(Watched, TooManyFoldersAndSourcesThatGoBeginAnew) {
  const std::string source = bench_.source();
  for (int i = 0; i < 30; ++i) fs::create_directories(source + "/d" + std::to_string(i));
  begin(20);
  const Id first = watch_->hand_over()->watch;
  for (int i = 0; i < 30; ++i) write_file(source + "/d" + std::to_string(i) + "/f", "x");
  ASSERT_TRUE(watch_->activity());
  EXPECT_NE(watch_->activity()->doubt.find("more happened than"), std::string::npos);
  const Id second = watch_->hand_over()->watch;
  EXPECT_NE(first, second);
  // The source itself goes, and comes back as another one.
  fs::rename(source, bench_.path("away"));
  fs::create_directory(source);
  std::optional<ChangeWatch::HandOver> told;
  for (int i = 0; i < 600 && !(told = watch_->hand_over()); ++i)
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  ASSERT_TRUE(told);
  EXPECT_NE(told->watch, second);
  write_file(source + "/new", "x");
  EXPECT_TRUE(watch_->hand_over()->folders.contains(tree_path(source)));
}

// Of a source that is a file, its folder tells.
TEST_P(Watched, ASourceThatIsAFileIsWatched) {
  const std::string source = bench_.source();
  write_file(source + "/list.csv", "one");
  write_file(source + "/other.csv", "not saved");
  const std::string text = bench_.home().load_job("job").text;
  bench_.set_job("[what]\nfolders = [\"" + source + "/list.csv\"]\n" + text.substr(text.find("[where]")));
  begin();
  run();
  write_file(source + "/other.csv", "changed");
  EXPECT_FALSE(watch_->activity());
  write_file(source + "/list.csv.new", "two");
  fs::rename(source + "/list.csv.new", source + "/list.csv");
  EXPECT_TRUE(watch_->activity());
  const RunOutcome outcome = run();
  EXPECT_TRUE(looked_at_a_part());
  EXPECT_EQ(outcome.entry.totals.changed_files, 1u);
}

// Folders that are only looked through for files of a type stand in the catalog when something in them does.
TEST_P(Watched, FoldersThatAreLookedThroughComeAndGoWithWhatIsTakenFromThem) {
  const std::string home = bench_.path("people/isla");
  for (int i = 0; i < 12; ++i) {
    write_file(home + "/d" + std::to_string(i) + "/e/one.jpg", "picture");
    write_file(home + "/d" + std::to_string(i) + "/e/one.txt", "text");
  }
  Selection wanted;
  set_places(wanted, {{home, false, 0}}, [](const std::string&) {});
  wanted.types["jpg"] = 0;
  const auto walked = [&](const ChangedFolders* changed) {
    FilesystemTable filesystems;
    Walker walker(
        wanted, filesystems, [](const Problem&) {}, [](const std::string&) {}, {}, changed);
    std::vector<std::string> paths;
    while (const Walked* found = walker.next())
      paths.push_back((found->maybe_shown ? "? " : "") + found->path.joined());
    return paths;
  };
  EXPECT_EQ(walked(nullptr).size(), 36u + tree_path(home).depth() + 1);
  ChangedFolders changed;
  changed.add(tree_path(home + "/d3/e"), FolderChange::of_name("one.jpg"));
  const std::vector<std::string> paths = walked(&changed);
  const std::string isla = tree_path(home).joined();
  EXPECT_NE(std::find(paths.begin(), paths.end(), "? " + isla + "/d3"), paths.end());
  EXPECT_NE(std::find(paths.begin(), paths.end(), isla + "/d3/e/one.jpg"), paths.end());
  EXPECT_EQ(std::find(paths.begin(), paths.end(), isla + "/d4"), paths.end());
}

// --- What cannot be watched ---

TEST(WatchGuide, PlacesOfProblemsAreLookedAtAgain) {
  EXPECT_EQ(
      places_of({{"/s/b", "read", "x"}, {"/s/a", "list", "y"}, {"", "prune", "z"}, {"/s/b", "read", "w"}}),
      (std::vector<TreePath>{tree_path("/s/a"), tree_path("/s/b")}));
}

}  // namespace
}  // namespace kestrum::test
