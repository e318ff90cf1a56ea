// Checks that look at a part of the sets: what is proved is remembered, what is left comes the next time, and
// damage is found within one round.
#include <fcntl.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <random>

#include "store/forwarding_store.hpp"
#include "support/forged_set.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::ElementsAre;
using testing::IsEmpty;

class Rounds : public testing::Test {
 protected:
  struct Time final : Clock {
    Instant now() const override { return {seconds, 0}; }
    std::int64_t seconds = 1900000000;
  };
  // Stops the work once so many bytes were read.
  struct Stopper final : Observer {
    explicit Stopper(RunControl& steered) : control(steered) {}
    void advanced(std::uint64_t bytes, std::uint64_t) override {
      read += bytes;
      if (read >= at) control.stop();
    }
    RunControl& control;
    std::uint64_t at = UINT64_MAX, read = 0;
  };

  Rounds() {
    bench_.clock = &time_;
    for (int i = 0; i < 6; ++i) {
      write_file(bench_.source() + "/sound-" + std::to_string(i), noise(static_cast<unsigned>(i), 100000));
      bench_.run_good();
      time_.seconds += 86400;
    }
    for (const auto& one : fs::recursive_directory_iterator(bench_.drive())) {
      const std::string ending = one.path().extension();
      if (ending != ".kvol" && ending != ".kidx") continue;
      files_.push_back(one.path());
      bytes_ += one.file_size() - FileHeader::size;
    }
    std::sort(files_.begin(), files_.end());
  }

  VerifyResult check(const VerifyRequest& request, std::uint64_t stop_at = UINT64_MAX) {
    LookSession opened = bench_.subject();
    History history = History::open(bench_.context());
    RunControl control;
    Stopper stopper(control);
    stopper.at = stop_at;
    return verify(opened, request, time_, &history, stopper, control);
  }
  VerifyResult check_part(std::uint64_t bytes) {
    VerifyRequest request;
    request.round.budget.bytes = bytes;
    return check(request);
  }
  std::vector<PointInfo> points() {
    History history = History::open(bench_.context());
    return list_points(bench_.subject(), &history).points;
  }
  std::uint64_t proved() {
    std::uint64_t bytes = 0;
    for (const PointInfo& info : points()) bytes += info.proved->unpacked_bytes;
    return bytes;
  }
  void flip(const std::string& path, std::uint64_t at) {
    std::string content = read_file(path);
    content.at(at) = static_cast<char>(content.at(at) ^ 1);
    write_file(path, content);
  }

  Time time_;
  Workbench bench_{
      "[how]\nvolume-size = \"64 KiB\"\nrenew = \"never\"\n[protect]\nencryption = \"none\"\nguard = "
      "\"no\"\n[check]\nafter-run = \"nothing\"\n[keep]\npoints = \"100 points\"\n"};
  std::vector<std::string> files_;  // volumes and indexes
  std::uint64_t bytes_ = 0;         // of their frames
};

TEST_F(Rounds, NightsWithABudgetProveEveryByte) {
  EXPECT_EQ(proved(), 0u);
  std::uint64_t read = 0;
  int nights = 0, rounds = 0;
  for (; nights < 30; ++nights, time_.seconds += 86400) {
    const std::uint64_t before = proved();
    const VerifyResult night = check_part(70000);
    EXPECT_TRUE(night.good());
    EXPECT_LT(night.bytes, 70000u + (64u << 10) + 4096);
    read += night.bytes;
    if (rounds == 0) {
      EXPECT_EQ(proved() - before, night.bytes);
      // A set of which a part was read is not called proved.
      for (const PointInfo& info : points())
        EXPECT_EQ(info.health == Health::proved, info.proved->unpacked_bytes == info.proved->all);
      EXPECT_EQ(night.went_on.has_value(), nights > 0);
    }
    if (!night.complete) {
      EXPECT_GT(night.left_bytes + night.bytes, 0u);
      continue;
    }
    if (rounds++ > 0) continue;
    EXPECT_EQ(proved(), bytes_) << "with the first round";
    EXPECT_EQ(read, bytes_) << "nothing twice";
    for (const PointInfo& info : points()) EXPECT_EQ(info.health, Health::proved);
  }
  EXPECT_GE(rounds, 2);
  // Nothing has waited for longer than two rounds take.
  const std::int64_t round = 30 / rounds + 1;
  for (const PointInfo& info : points()) {
    ASSERT_TRUE(info.proved->oldest);
    EXPECT_GE(info.proved->oldest->seconds, time_.seconds - 2 * round * 86400);
  }
}

TEST_F(Rounds, DamageIsFoundWithinTheRound) {
  std::mt19937 random(19);
  int nights_of_a_round = 0;
  while (!check_part(70000).complete) ++nights_of_a_round;
  for (int turn = 0; turn < 8; ++turn) {
    const std::string& path = files_[random() % files_.size()];
    const std::uint64_t at = FileHeader::size + random() % (fs::file_size(path) - FileHeader::size);
    for (unsigned nights = random() % 4; nights > 0; --nights) EXPECT_TRUE(check_part(70000).good());
    flip(path, at);
    int nights = 0;
    while (!check_part(70000).damaged() && nights < 100) ++nights;
    // What is left of the round that goes on, and the one after it.
    EXPECT_LE(nights, 2 * (nights_of_a_round + 1)) << path << " at " << at;
    // It stays known while other parts are looked at, and the point is not called good.
    for (int part = 0; part <= nights_of_a_round + 1; ++part) EXPECT_TRUE(check_part(70000).damaged());
    flip(path, at);
    VerifyRequest anew;
    anew.round.anew = true;
    EXPECT_TRUE(check(anew).good()) << "mended";
    EXPECT_TRUE(check_part(70000).good());
  }
}

// However little time there is, it comes to an end.
TEST_F(Rounds, EachGoDoesSomething) {
  VerifyRequest request;
  request.round.budget.time = std::chrono::nanoseconds(0);
  int times = 1;
  while (!check(request).complete && times < 100) ++times;
  EXPECT_GT(times, static_cast<int>(files_.size()));
  EXPECT_LT(times, 100);
  EXPECT_EQ(proved(), bytes_);
}

// What one part finds is added to what others found, and it is said at once what it means.
TEST_F(Rounds, PartsAddUpWhatTheyFind) {
  const std::string folder = bench_.set_folder(1);
  const std::string first = folder + "/data-001.kvol", second = folder + "/data-002.kvol";
  flip(first, FileHeader::size + 1000);
  flip(second, FileHeader::size + 50);
  std::uint64_t affected = 0;
  // A bad place does not hold up those behind it.
  bool complete = false;
  for (int parts = 0; !complete && parts < 100; ++parts) {
    const VerifyResult part = check_part(1);
    for (const PointVerdict& point : part.points) affected = std::max(affected, point.affected_count);
    if (part.damaged()) {
      EXPECT_GE(affected, 1u) << "at the first place that is met";
    }
    complete = part.complete;
  }
  EXPECT_TRUE(complete);
  EXPECT_GE(affected, 1u);
  History history = History::open(bench_.context());
  const std::optional<CheckEntry> last = history.checks(points().front().facts.set).last;
  ASSERT_TRUE(last);
  EXPECT_FALSE(last->good);
  EXPECT_EQ(last->lost.frames.size(), 2u) << last->lost.text();
  EXPECT_EQ(points().front().health, Health::damaged);
}

TEST_F(Rounds, WhatWasBrokenOffIsGoneOnWith) {
  EXPECT_THROW(check({}, bytes_ / 2), Stopped);
  const std::uint64_t there = proved();
  EXPECT_GT(there, bytes_ / 4);
  const VerifyResult rest = check({});
  EXPECT_TRUE(rest.went_on);
  EXPECT_TRUE(rest.complete);
  EXPECT_TRUE(rest.good());
  EXPECT_EQ(rest.bytes, bytes_ - there);
  // The next one is one of its own.
  time_.seconds += 60;
  const VerifyResult whole = check({});
  EXPECT_FALSE(whole.went_on);
  EXPECT_EQ(whole.bytes, bytes_);
}

TEST_F(Rounds, AnewMeansFromTheBeginning) {
  EXPECT_THROW(check({}, bytes_ / 2), Stopped);
  VerifyRequest anew;
  anew.round.anew = true;
  EXPECT_EQ(check(anew).bytes, bytes_);
}

// A part that does not read is not passed over by the check that goes on.
TEST_F(Rounds, DamageThatWasMetBeforeAStopIsMetAgain) {
  flip(files_[0], fs::file_size(files_[0]) - 40);
  EXPECT_THROW(check({}, bytes_ / 2), Stopped);
  EXPECT_TRUE(check({}).damaged());
}

// A store with a part of one file that does not read, or with none of it that does.
class BadSector final : public ForwardingStore {
 public:
  struct Place {
    std::string file;
    std::uint64_t from = 0, to = 0;
  };
  BadSector(std::unique_ptr<Store> inner, Place place)
      : ForwardingStore(std::move(inner)), place_(std::move(place)) {}
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override {
    std::unique_ptr<StoreReader> inner = ForwardingStore::try_open(path);
    if (!inner || !place_.file.ends_with(path)) return inner;
    return std::make_unique<Reader>(std::move(inner), place_);
  }

 private:
  struct Reader final : StoreReader {
    Reader(std::unique_ptr<StoreReader> opened, Place bad)
        : inner(std::move(opened)), place(std::move(bad)) {}
    std::uint64_t size() const override { return inner->size(); }
    void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
      if (offset < place.to && offset + out.size() > place.from) throw system_error("read", place.file, EIO);
      inner->read_at(offset, out);
    }
    std::unique_ptr<StoreReader> inner;
    Place place;
  };
  Place place_;
};

// A bad sector is damage of what lies there, and keeps nothing else from being checked.
TEST_F(Rounds, WhatTheDriveDoesNotReadIsDamage) {
  for (const std::string& path : files_) {
    SCOPED_TRACE(path);
    const std::uint64_t size = fs::file_size(path);
    BadSector::Place bad{path, size - 100, size - 90};
    bench_.open_store = [&](const std::string& root) {
      return std::make_unique<BadSector>(open_local_store(root), bad);
    };
    VerifyRequest anew;
    anew.round.anew = true;
    VerifyResult found = check(anew);
    std::ptrdiff_t with_findings = 0;
    for (const PointVerdict& point : found.points) {
      EXPECT_EQ(point.unreadable, "");
      with_findings +=
          std::count_if(point.findings.begin(), point.findings.end(), [](const std::string& text) {
            return text.find("the drive does not read it") != std::string::npos;
          });
    }
    EXPECT_TRUE(found.damaged());
    EXPECT_GE(with_findings, 1);
    EXPECT_LE(with_findings, 2) << "as a file, and as the index";
    // Nothing of the file comes: nothing is known of its set.
    bad.from = 0;
    found = check(anew);
    EXPECT_FALSE(found.good());
    for (const PointVerdict& point : found.points) EXPECT_THAT(point.findings, IsEmpty());
    bench_.open_store = open_local_store;
    EXPECT_TRUE(check(anew).good());
  }
}

TEST_F(Rounds, SamplesTakeWhatWasReadLongestAgo) {
  VerifyRequest sample;
  sample.depth = Depth::sample;
  sample.sample_percent = 10;
  std::uint64_t read = 0;
  int times = 0;
  for (; times < 30 && proved() < bytes_; ++times, time_.seconds += 3600) {
    const VerifyResult found = check(sample);
    EXPECT_TRUE(found.good());
    EXPECT_GE(found.bytes * 10, bytes_);
    read += found.bytes;
  }
  EXPECT_EQ(proved(), bytes_);
  EXPECT_LT(read, bytes_ + bytes_ / 5) << "nothing twice, as long as something was never read";
  EXPECT_LE(times, 10);
}

TEST_F(Rounds, ASeedMakesTheSameSample) {
  VerifyRequest sample;
  sample.depth = Depth::sample;
  sample.seed = 7;
  const std::uint64_t first = check(sample).bytes;
  const std::uint64_t there = proved();
  EXPECT_EQ(check(sample).bytes, first);
  EXPECT_EQ(proved(), there);
  sample.seed = 8;
  check(sample);
  EXPECT_GT(proved(), there);
}

// Rounds at one moment, or with a clock that was set back, do not take each other's proofs for their own.
TEST_F(Rounds, AClockThatStandsStillOrGoesBack) {
  for (int round = 0; round < 3; ++round) {
    std::uint64_t read = 0;
    bool complete = false;
    for (int part = 0; part < 30 && !complete; ++part) {
      const VerifyResult found = check_part(70000);
      read += found.bytes;
      complete = found.complete;
    }
    EXPECT_TRUE(complete);
    EXPECT_EQ(read, bytes_);
    if (round == 1) time_.seconds -= 5 * 86400;
  }
}

// What reading back after a run has proved counts as read, not as unpacked.
TEST_F(Rounds, ReadingBackIsRemembered) {
  std::string text = bench_.home().load_job("job").text;
  const std::string nothing = "after-run = \"nothing\"";
  bench_.set_job(text.replace(text.find(nothing), nothing.size(), "after-run = \"read back\""));
  write_file(bench_.source() + "/new", noise(77, 200000));
  bench_.run_good();
  const ProvedShare proved = *points().back().proved;
  EXPECT_EQ(proved.bytes, proved.all);
  EXPECT_EQ(proved.unpacked_bytes, 0u);
  EXPECT_EQ(proved.oldest, time_.now());
  EXPECT_EQ(points().front().proved->bytes, 0u);
}

class Sources : public Rounds {
 protected:
  VerifyResult compare() {
    VerifyRequest request;
    request.depth = Depth::source;
    request.machine = bench_.context().machine;
    return check(request);
  }
};

TEST_F(Sources, ToldApart) {
  VerifyResult found = compare();
  ASSERT_TRUE(found.source);
  EXPECT_EQ(found.source->same, 6u);
  EXPECT_TRUE(found.good());
  // Changed since; gone; other content behind the same size and time.
  write_file(bench_.source() + "/sound-0", "new");
  fs::remove(bench_.source() + "/sound-1");
  const std::string silent = bench_.source() + "/sound-2";
  struct stat before {};
  ASSERT_EQ(stat(silent.c_str(), &before), 0);
  flip(silent, 50000);
  const timespec times[2] = {before.st_atim, before.st_mtim};
  ASSERT_EQ(utimensat(AT_FDCWD, silent.c_str(), times, 0), 0);
  found = compare();
  EXPECT_EQ(found.source->same, 3u);
  EXPECT_EQ(found.source->changed, 1u);
  EXPECT_EQ(found.source->gone, 1u);
  EXPECT_EQ(found.source->wrong, 1u);
  EXPECT_THAT(found.source->wrong_paths, ElementsAre(silent));
  EXPECT_TRUE(found.good()) << "of the sets";
}

TEST_F(Sources, OfAnotherMachineThereAreNone) {
  VerifyRequest request;
  request.depth = Depth::source;
  request.machine = "elsewhere";
  EXPECT_THROW(check(request), Error);
}

// Every frame reads, and still it is not what was sealed.
class Disagreeing : public testing::Test {
 protected:
  Disagreeing() { set_.entries = {forged_folder("/srv"), forged_file("/srv/list", std::string(50000, 'x'))}; }
  std::vector<std::string> findings() {
    store_.files().clear();
    forge(store_, "skerry-1/job", set_);
    const SetList sets(store_, "skerry-1/job", set_.job);
    const FoundSet& found = *sets.begin();
    SetReader reader(store_, sets.shared(found.folder.sequence), set_.master);
    if (known_.size == 0) {
      reader.each_record([this](const IndexRecord& record) {
        if (record.frame.offset == FileHeader::size) known_ = record.frame;
      });
    }
    return check_set(reader, {}).findings;
  }
  MemoryStore store_;
  ForgedSet set_;
  FramePlace known_{};
};

TEST_F(Disagreeing, TheIndexNamesMoreThanThereIs) {
  EXPECT_THAT(findings(), IsEmpty());
  ASSERT_GT(known_.size, 0u);
  set_.prepare = [this](SetWriter& writer, std::vector<ForgedEntry>&) {
    IndexRecord more;
    more.name.bytes.fill(7);
    more.slot = 1;
    more.frame = known_;
    more.length = 10;
    writer.hold({more});
  };
  const std::vector<std::string> found = findings();
  ASSERT_EQ(found.size(), 1u);
  EXPECT_THAT(found[0], testing::HasSubstr("does not say what its volumes hold"));
}

TEST_F(Disagreeing, TheSealHasAnotherDigest) {
  set_.change = [](Seal& seal) { seal.core.files.back().digest[3] ^= 1; };
  const std::vector<std::string> found = findings();
  ASSERT_EQ(found.size(), 1u);
  EXPECT_THAT(found[0], testing::HasSubstr("is not as it was sealed"));
}

TEST(SetProofs, TheNewestCounts) {
  SetProofs proofs(
      {{{1, 96, 500}, {100, 0}, true}, {{1, 500, 900}, {300, 0}, false}, {{1, 200, 300}, {200, 0}, true}});
  EXPECT_EQ(proofs.since(Stretch{1, 96, 500}, true), (Instant{100, 0}));
  EXPECT_EQ(proofs.since(Stretch{1, 200, 300}, true), (Instant{200, 0}));
  EXPECT_EQ(proofs.since(Stretch{1, 96, 900}, false), (Instant{100, 0}));
  EXPECT_EQ(proofs.since(Stretch{1, 96, 900}, true), std::nullopt);
  EXPECT_EQ(proofs.since(Stretch{1, 96, 901}, false), std::nullopt);
  EXPECT_EQ(proofs.since(Stretch{2, 96, 97}, false), std::nullopt);
}

}  // namespace
}  // namespace kestrum::test
