// The power goes at every operation of a first run, a run, a pruning and a folding. Whatever of what was not
// flushed comes back: points that were there are there and whole, a point that was reported is there, and the
// next run works. With any one flush left out, this finds it.
#include <gtest/gtest.h>

#include "base/flush_point.hpp"
#include "engine/leftover_use.hpp"
#include "engine/repair.hpp"
#include "engine/ways_in.hpp"
#include "support/extent.hpp"
#include "support/power_cut_store.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

enum class Work {
  first_run,
  first_run_into_folders,
  run,
  prune,
  fold,
  run_with_failing_rename,
  keep,
  drop,
  resume,
  ways,
  repair
};

std::string noise(std::size_t size, unsigned seed) {
  std::mt19937 random(seed);
  std::string out(size, '\0');
  for (char& c : out) c = static_cast<char>(random());
  return out;
}

// In memory: what is cut is a store of its own there.
class PowerCuts : private InMemory {
 public:
  explicit PowerCuts(Work work) : work_(work) {
    std::string protect = "encryption = \"none\"\n";
    if (work == Work::ways) {
      for (const char* name : {"pass-1", "pass-2"}) {
        write_file(bench_.path(name), "tern in the fog, " + std::string(name) + "\n");
        std::filesystem::permissions(bench_.path(name), std::filesystem::perms::owner_read);
      }
      protect = "passphrase = \"file:" + bench_.path("pass-1") + "\"\n";
    }
    if (work == Work::repair) protect += "parity = \"5%\"\nguard = \"no\"\n";
    bench_.set_job(bench_.home().load_job("job").text +
                   "[how]\nvolume-size = \"64 KiB\"\nrenew = \"never\"\n[protect]\n" + protect +
                   "[check]\nafter-run = \"nothing\"\n[keep]\npoints = \"100 points\"\n");
    bench_.clock = &clock_;
    bench_.journal_step = 16000;
    bench_.settle_files();
    bench_.open_store = [this](const std::string&) { return std::make_unique<PowerCutStore>(disk_); };
    write_file(bench_.source() + "/steady", noise(60000, 1));
    if (first()) {
      expected_[1] = take_snapshot(bench_.source());
      if (work == Work::first_run_into_folders) PowerCutStore(disk_).make_folders("skerry-1/job");
    } else {
      for (Sequence point = 1; point <= 4; ++point) {
        write_file(bench_.source() + "/list-" + std::to_string(point), noise(20000, 10 + point));
        expected_[point] = take_snapshot(bench_.source());
        clock_.seconds += 86400;
        if (bench_.run_good() != point) failure_ = "it could not be prepared";
      }
      write_file(bench_.source() + "/list-5", noise(90000, 15));
      expected_[5] = take_snapshot(bench_.source());
    }
    disk_->settle();
    if (work == Work::resume || work == Work::ways) break_off_a_run();
    if (work == Work::repair) spoil_sets();
    start_ = disk_->copy();
    expected_before_ = expected_;
    home_ = bench_.path("home");
    std::filesystem::copy(home_, bench_.path("home-before"), std::filesystem::copy_options::recursive);
  }

  // What went wrong first; empty when nothing did. Begins at that moment, goes on to the last one, and tries
  // those before it then.
  std::string sweep(std::uint64_t first = 1) {
    bool through = false;
    for (std::uint64_t cut = first; failure_.empty() && !through; ++cut) through = all_ways(cut);
    for (std::uint64_t cut = 1; failure_.empty() && cut < first; ++cut) all_ways(cut);
    return failure_;
  }
  int cuts() const { return cuts_; }
  // What is kept of the unflushed, in how many ways at each moment.
  static unsigned ways() { return extent("KESTRUM_CUT_WAYS", 4); }

 private:
  // True when the work was done before the power went.
  bool all_ways(std::uint64_t cut) {
    bool through = false;
    for (unsigned way = 0; way < ways(); ++way) {
      constexpr unsigned usual[] = {0, 100, 50, 80};
      const unsigned keep =
          way < std::size(usual) ? usual[way] : (31 * way + 7 * static_cast<unsigned>(cut)) % 101;
      through = one_cut(cut, keep);
      if (failure_.empty()) continue;
      failure_ += " (cut at " + std::to_string(cut) + ", keeping " + std::to_string(keep) + " %)";
      return through;
    }
    ++cuts_;
    return through;
  }

  bool first() const { return work_ == Work::first_run || work_ == Work::first_run_into_folders; }

  struct Time final : Clock {
    Instant now() const override { return {seconds, 0}; }
    std::int64_t seconds = 1800000000;
  };

  // What it has left is on the way to the drive only.
  void break_off_a_run() {
    for (int i = 0; i < 8; ++i)
      write_file(bench_.source() + "/more-" + std::to_string(i),
                 noise(30000, 100u + static_cast<unsigned>(i)));
    expected_[5] = take_snapshot(bench_.source());
    const RunOutcome broken = bench_.run_stopped_at(300000);
    if (broken.entry.sequence || !left_point(bench_.subject())) failure_ = "no run was broken off";
  }

  // One of each that repair can mend: from parity, an index from its volumes, a seal from its copy, pieces
  // from today's files.
  void spoil_sets() {
    PowerCutStore store(disk_);
    for (const StoreEntry& set : store.list("skerry-1/job")) {
      const std::string folder = "skerry-1/job/" + set.name, volume = folder + "/data-001.kvol";
      if (set.name.starts_with("000001")) store.remove(folder + "/seal.json");
      if (set.name.starts_with("000002")) change(store, volume, 1);
      if (set.name.starts_with("000003")) store.remove(folder + "/index.kidx");
      if (set.name.starts_with("000003")) store.remove(folder + "/mend-000.kmend");
      if (set.name.starts_with("000004")) change(store, volume, 5);
    }
    disk_->settle();
  }
  // So many slices at its beginning.
  static void change(Store& store, const std::string& path, std::size_t slices) {
    Bytes content = store.read_all(path, UINT32_MAX);
    for (std::size_t i = 0; i < slices && i * 4096 + 200 < content.size(); ++i) content[i * 4096 + 200] ^= 1;
    store.remove(path);
    const auto file = store.create(path);
    file->append(content);
    file->finish();
  }

  void begin_anew() {
    expected_ = expected_before_;
    disk_ = start_->copy();
    std::filesystem::remove_all(home_);
    std::filesystem::copy(bench_.path("home-before"), home_, std::filesystem::copy_options::recursive);
    for (const auto& entry : std::filesystem::directory_iterator(bench_.source())) {
      if (entry.path().filename() == "next") std::filesystem::remove(entry.path());
    }
  }

  // True when the work was done before the power went.
  bool one_cut(std::uint64_t cut, unsigned keep) {
    begin_anew();
    disk_->operations = 0;
    disk_->cut_at = cut;
    disk_->folder_renames = 0;
    disk_->fail_rename_at = work_ == Work::run_with_failing_rename ? 1 : 0;
    bool done = false, made = false;
    if (work_ == Work::prune) bench_.set_keep("points = \"2 points\"");
    try {
      if (work_ == Work::prune) {
        prune_job("job", false, bench_.context());
      } else if (work_ == Work::fold) {
        bench_.fold({}, 3);
      } else if (work_ == Work::keep) {
        keep_point("job", "2", "the move", bench_.context());
      } else if (work_ == Work::drop) {
        drop_point("job", "4", "", bench_.context());
      } else if (work_ == Work::ways) {
        change_passphrase("job", {.new_source = "file:" + bench_.path("pass-2")}, bench_.context());
      } else if (work_ == Work::repair) {
        if (!repair_job("job", {}, bench_.context()).at(0).left.good())
          failure_ = "it does not mend everything";
      } else {
        made = bench_.run().entry.sequence.has_value();
      }
      done = disk_->operations < cut;
      made = made && done;  // whatever a machine without power would have said, nobody heard it
    } catch (const Error& error) {
      if (disk_->operations < cut) failure_ = std::string("it failed: ") + error.what();
    }
    if (work_ == Work::prune) bench_.set_keep("points = \"100 points\"");
    std::mt19937 random(static_cast<unsigned>(cut * 100 + keep));
    disk_->cut(keep, random);
    if (failure_.empty()) look(made, done);
    return done;
  }

  void look(bool made, bool done) {
    try {
      // One that was cut off is begun again; what was reported must be there without that.
      if (work_ == Work::repair && !done && !repair_job("job", {}, bench_.context()).at(0).left.good())
        return fail("another repair does not mend everything");
      std::vector<Sequence> points;
      if (PowerCutStore(disk_).exists("skerry-1/job/job.json")) points = bench_.points();
      auto has = [&](Sequence point) {
        return std::find(points.begin(), points.end(), point) != points.end();
      };
      Sequence newest = first() ? 1 : 5;
      if (made && !has(newest)) return fail("a point that was reported is gone");
      if (!first() && !has(4) && work_ != Work::drop) return fail("the newest point is gone");
      if (done && has(4) && work_ == Work::drop) return fail("a point that was given up is there again");
      if (done && work_ == Work::keep && points_said("job", bench_.context()).size() != 1)
        return fail("it is not known any more that a point is kept");
      bool keeps_all = work_ == Work::run || work_ == Work::keep || work_ == Work::run_with_failing_rename ||
                       work_ == Work::resume || work_ == Work::ways || work_ == Work::repair;
      for (Sequence point = 1; keeps_all && point <= 4; ++point) {
        if (!has(point)) return fail("point " + std::to_string(point) + " is gone");
      }
      for (Sequence point : points) restore(point);
      if (!failure_.empty()) return;
      write_file(bench_.source() + "/next", "another day");
      RunOutcome next = bench_.run();
      if (!next.entry.sequence) return fail("the next run failed: " + next.entry.message);
      expected_[*next.entry.sequence] = take_snapshot(bench_.source());
      // What the power took of a point that nobody was told of yet is no loss; anything else would be.
      VerifyResult verified = bench_.verified();
      for (const PointVerdict& point : verified.points) {
        if (!point.good())
          return fail("point " + std::to_string(point.sequence) +
                      " is damaged: " + (point.findings.empty() ? "" : point.findings[0]));
      }
      for (Sequence point : bench_.points()) restore(point);
      for (const StoreEntry& entry : PowerCutStore(disk_).list("skerry-1/job")) {
        if (entry.name.ends_with(".removing") || entry.name.ends_with(".unfinished"))
          fail("something was not tidied up: " + entry.name);
      }
    } catch (const Error& error) {
      fail(std::string("looking failed: ") + error.what());
    }
  }

  void restore(Sequence point) {
    if (!failure_.empty()) return;
    std::string to = bench_.path("back");
    std::filesystem::remove_all(to);
    try {
      RestoreResult result = bench_.restore_to(to, point);
      if (!result.problems.empty())
        return fail("point " + std::to_string(point) + ": " + result.problems[0].reason);
    } catch (const Error& error) {
      return fail("point " + std::to_string(point) + ": " + error.what());
    }
    std::map<std::string, std::string> was, is;
    for (const auto& [name, file] : expected_[point]) was[name] = file.content;
    for (const auto& [name, file] : take_snapshot(to + "/source")) is[name] = file.content;
    if (was != is) fail("point " + std::to_string(point) + " is not as it was");
  }

  void fail(const std::string& what) {
    if (failure_.empty()) failure_ = what;
  }

  Work work_;
  Time clock_;
  Workbench bench_{""};
  std::shared_ptr<PowerCutStore::Disk> disk_ = std::make_shared<PowerCutStore::Disk>();
  std::shared_ptr<PowerCutStore::Disk> start_;
  std::string home_;
  std::map<Sequence, Snapshot> expected_, expected_before_;
  std::string failure_;
  int cuts_ = 0;
};

constexpr Work all_work[] = {Work::first_run, Work::first_run_into_folders,
                             Work::run,       Work::prune,
                             Work::fold,      Work::run_with_failing_rename,
                             Work::keep,      Work::drop,
                             Work::resume,    Work::ways,
                             Work::repair};
const char* const work_names[] = {"a first run",
                                  "a first run into folders that are there",
                                  "a run",
                                  "a pruning",
                                  "a folding",
                                  "a run whose last renaming fails",
                                  "keeping a point",
                                  "giving up the newest point",
                                  "a run that goes on with a broken one",
                                  "another passphrase",
                                  "a repair"};

class PowerCut : public testing::TestWithParam<int> {};

TEST_P(PowerCut, LosesNothingThatWasReported) {
  PowerCuts cuts(all_work[GetParam()]);
  EXPECT_EQ(cuts.sweep(), "") << work_names[GetParam()];
  EXPECT_GT(cuts.cuts(), 10);
  std::printf("%s: %d moments\n", work_names[GetParam()], static_cast<int>(PowerCuts::ways()) * cuts.cuts());
}
INSTANTIATE_TEST_SUITE_P(Works, PowerCut, testing::Range(0, 11));

// Where each flush is missed; the search begins a little before the moment at which it was, last time.
struct FlushCase {
  const char* flush;
  Work work;
  std::uint64_t seen;
};
constexpr FlushCase flush_cases[] = {{"1: content of a file", Work::run, 21},
                                     {"2: name of a small file", Work::run, 38},
                                     {"3: name of a folder", Work::first_run, 45},
                                     {"4: name of drive.json", Work::first_run_into_folders, 7},
                                     {"5: folder of a new set", Work::run, 40},
                                     {"6: names of a set's files", Work::run, 32},
                                     {"7: mark of removal", Work::prune, 38},
                                     {"8: files taken over by folding", Work::fold, 47},
                                     {"9: what a run goes on with", Work::resume, 30},
                                     {"10: a mended file", Work::repair, 116}};

class LeftOutFlush : public testing::TestWithParam<FlushCase> {};

TEST_P(LeftOutFlush, IsFound) {
  PowerCuts cuts(GetParam().work);
  leave_out_flush(GetParam().flush);
  const std::uint64_t before = std::min<std::uint64_t>(GetParam().seen - 1, 4);
  std::string found = cuts.sweep(GetParam().seen - before);
  leave_out_flush("");
  EXPECT_NE(found, "") << "nothing failed without the flush of: " << GetParam().flush;
  std::printf("without the flush of %s, in %s: %s\n", GetParam().flush,
              work_names[static_cast<std::size_t>(GetParam().work)], found.c_str());
}
INSTANTIATE_TEST_SUITE_P(Each, LeftOutFlush, testing::ValuesIn(flush_cases));

TEST(LeftOutFlushes, AreAllThereAre) {
  ASSERT_EQ(std::size(flush_cases), std::size(all_flush_points));
  for (const char* name : all_flush_points) {
    EXPECT_TRUE(std::any_of(std::begin(flush_cases), std::end(flush_cases), [&](const FlushCase& one) {
      return std::string(one.flush) == name;
    })) << name;
  }
}

}  // namespace
}  // namespace kestrum::test
