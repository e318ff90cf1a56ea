// What parity does not mend comes from elsewhere: today's files, another destination, the rest of a set.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/repair_chain.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::IsEmpty;

TEST(Repair, PiecesComeFromTodaysFilesWhereTheseStillHaveThem) {
  RepairChain chain("", 3);
  fs::rename(chain.bench.path("away"), chain.bench.source());
  // A frame of the newest set, whose file is as it was; and one of the first, whose files have changed.
  for (const std::string& file : chain.files("data-001.kvol")) {
    std::string text = read_file(file);
    for (std::size_t at = 96; at + 4096 < text.size(); at += 20000) text[at + 1000] ^= 1;
    write_file(file, text);
  }
  const BadFiles before = chain.bad_files();
  ASSERT_GT(count(before), 0u);
  const RepairResult result = chain.repair().at(0);
  std::uint64_t lost = 0, taken = 0;
  for (const SetRepair& set : result.sets) {
    lost += set.pieces_lost;
    taken += set.from_sources;
    EXPECT_EQ(set.from_elsewhere, 0u);
  }
  EXPECT_GT(taken, 0u);
  EXPECT_LE(taken, lost);
  const BadFiles after = chain.bad_files();
  EXPECT_LT(count(after), count(before));
  EXPECT_TRUE(is_within(after, before));
  chain.expect_exact(result.left, after);
  // What is the same on the disk today is whole again at every point.
  const Snapshot now = take_snapshot(chain.bench.source());
  for (const auto& [point, paths] : after) {
    for (const std::string& path : paths) {
      const bool same = now.contains(path) && now.at(path).content == chain.models[point].at(path).content;
      EXPECT_FALSE(same) << point << ": " << path;
    }
  }
  // The next run saves anew what was lost of them, and its point is whole.
  const RunOutcome next = chain.bench.run();
  ASSERT_TRUE(next.entry.sequence);
  EXPECT_EQ(compare_snapshots(now, chain.bench.restored(*next.entry.sequence)), "");
}

// A run goes to both of two destinations.
void give_second_destination(Workbench& bench) {
  std::string text = bench.home().load_job("job").text;
  const std::string drive = bench.drive(), other = bench.path("other");
  text.replace(text.find("\"" + drive + "\""), drive.size() + 2, "\"" + drive + "\", \"" + other + "\"");
  fs::create_directories(other);
  bench.set_job(text);
  bench.settle_files();
}

constexpr const char* both_config =
    "[how]\nvolume-size = \"256 KiB\"\n[protect]\nencryption = \"none\"\nguard = \"no\"\n";
constexpr const char* use_both = "use = \"all connected\"\n";

// Where no other test makes folders: lists hold the times of the folders above their sources.
class Apart {
 public:
  Apart() {
    if (const char* before = std::getenv("TMPDIR")) before_ = before;
    setenv("TMPDIR", "/var/tmp", 1);
  }
  ~Apart() { before_ ? setenv("TMPDIR", before_->c_str(), 1) : unsetenv("TMPDIR"); }
  Apart(const Apart&) = delete;
  Apart& operator=(const Apart&) = delete;

 private:
  std::optional<std::string> before_;
};

// A list has pages of pages: what a lost page names is found missing only once the page is back.
TEST(Repair, PagesOfAListComeFromAnotherDestination) {
  const Apart apart;
  std::optional<Workbench> made;
  // The lists of both are the same unless others change the folder above meanwhile.
  bool same = false;
  for (int tries = 0; tries < 20 && !same; ++tries) {
    made.emplace(both_config, use_both);
    give_second_destination(*made);
    for (unsigned i = 0; i < 3000; ++i)
      write_file(made->source() + "/" + std::to_string(i % 40) + "/list-of-rings-" + std::to_string(i), "x");
    made->settle_files();
    const std::string above = fs::path(made->source()).parent_path().parent_path();
    const fs::file_time_type before = fs::last_write_time(above);
    for (const RunOutcome& outcome : run_job("job", {}, made->context())) ASSERT_TRUE(outcome.entry.sequence);
    same = before == fs::last_write_time(above);
  }
  ASSERT_TRUE(same) << "others change the folder above all the time";
  Workbench& bench = *made;
  fs::rename(bench.source(), bench.path("away"));
  std::size_t frames = 0;
  for (const auto& entry : fs::directory_iterator(bench.set_folder(1))) {
    if (entry.path().extension() != ".kvol") continue;
    std::string text = read_file(entry.path());
    for (std::size_t at = 96; at + 32 < text.size();) {
      std::uint32_t size = 0;
      std::memcpy(&size, text.data() + at + 12, sizeof size);
      if (text[at + 4] == 2) {
        text[at + 40] ^= 1;
        ++frames;
      }
      at += 32 + size;
    }
    write_file(entry.path(), text);
  }
  ASSERT_GT(frames, 0u);
  const VerifyResult found = bench.verified();
  ASSERT_FALSE(found.good());
  ASSERT_FALSE(found.points[0].affected.empty());
  EXPECT_FALSE(found.points[0].affected[0].places.empty()) << "nobody knows where the list is bad";
  const std::vector<RepairResult> results = repair_job("job", {}, bench.context());
  EXPECT_TRUE(results.at(0).left.good());
  EXPECT_GT(results[0].sets.at(0).from_elsewhere, 1u);
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.path("away")), bench.restored(1)), "");
}

// Something was put in at the beginning of a file: what follows lies elsewhere in it, and is the same.
TEST(Repair, PiecesThatHaveShiftedComeFromTodaysFile) {
  Workbench bench("[protect]\nencryption = \"none\"\nguard = \"no\"\n");
  const std::string content = noise(5, 12u << 20);
  write_file(bench.source() + "/calls.wav", content);
  bench.settle_files();
  bench.run_good();
  write_file(bench.source() + "/calls.wav", noise(6, 3000) + content);
  const std::string volume = bench.set_folder(1) + "/data-001.kvol";
  std::string text = read_file(volume);
  for (std::size_t at = 1000; at < text.size() - 70000; at += 300000) text[at] ^= 1;
  write_file(volume, text);
  const RepairResult result = repair_job("job", {}, bench.context()).at(0);
  ASSERT_EQ(result.sets.size(), 1u);
  const SetRepair& set = result.sets[0];
  EXPECT_GE(set.pieces_lost, 6u);
  EXPECT_GE(set.from_sources + 2, set.pieces_lost) << "all but those around the place that has changed";
  EXPECT_GT(set.from_sources, 4u);
}

// Two full sets of the same files, each a chain of its own.
class TwoChains {
 public:
  TwoChains() {
    write_file(bench.source() + "/call.wav", noise(5, 3u << 20));
    bench.settle_files();
    for (int i = 0; i < 2; ++i) EXPECT_EQ(bench.run(Kind::full).entry.result, RunResult::done);
    was = take_snapshot(bench.source());
  }
  void spoil(Sequence set) {
    const std::string volume = bench.set_folder(set) + "/data-001.kvol";
    std::string text = read_file(volume);
    text[1u << 20] ^= 1;
    write_file(volume, text);
  }
  RepairResult repaired() {
    const RepairResult result = repair_job("job", {}, bench.context()).at(0);
    EXPECT_TRUE(result.left.good());
    for (const Sequence point : {1u, 2u}) EXPECT_EQ(compare_snapshots(was, bench.restored(point)), "");
    return result;
  }
  Workbench bench{"[protect]\nencryption = \"none\"\nguard = \"no\"\n"};
  Snapshot was;
};

TEST(Repair, PiecesComeFromAnotherChain) {
  TwoChains two;
  two.spoil(1);
  fs::rename(two.bench.source() + "/call.wav", two.bench.path("away"));
  const RepairResult result = two.repaired();
  ASSERT_EQ(result.sets.size(), 1u);
  EXPECT_GT(result.sets[0].pieces_lost, 0u);
  EXPECT_EQ(result.sets[0].from_sets, result.sets[0].pieces_lost);
}

TEST(Repair, APieceThatTwoChainsHaveLostComesBackToBoth) {
  TwoChains two;
  two.spoil(1);
  two.spoil(2);
  const RepairResult result = two.repaired();
  ASSERT_EQ(result.sets.size(), 2u);
  EXPECT_EQ(result.sets[0].from_sources, result.sets[0].pieces_lost);
  EXPECT_EQ(result.sets[1].pieces_lost, result.sets[0].pieces_lost);
}

// A copy of a file that has changed since, by another name.
TEST(Repair, PiecesComeFromWhicheverFileStillHasThem) {
  Workbench bench("[protect]\nencryption = \"none\"\nguard = \"no\"\n");
  const std::string content = noise(5, 3u << 20);
  write_file(bench.source() + "/a-call.wav", content);
  write_file(bench.source() + "/z-copy.wav", content);
  bench.settle_files();
  bench.run_good();
  const Snapshot was = take_snapshot(bench.source());
  write_file(bench.source() + "/a-call.wav", noise(6, 3u << 20));
  const std::string volume = bench.set_folder(1) + "/data-001.kvol";
  std::string text = read_file(volume);
  text[1u << 20] ^= 1;
  write_file(volume, text);
  const RepairResult result = repair_job("job", {}, bench.context()).at(0);
  ASSERT_EQ(result.sets.size(), 1u);
  EXPECT_GT(result.sets[0].pieces_lost, 0u);
  EXPECT_EQ(result.sets[0].from_sources, result.sets[0].pieces_lost);
  EXPECT_TRUE(result.left.good());
  EXPECT_EQ(compare_snapshots(was, bench.restored(1)), "");
}

// As far as anything else than the seal tells of them.
void expect_same_facts(const SetFacts& made, const SetFacts& was) {
  EXPECT_EQ(made.kind, was.kind);
  EXPECT_EQ(made.totals.files, was.totals.files);
  EXPECT_EQ(made.totals.folders, was.totals.folders);
  EXPECT_EQ(made.totals.bytes, was.totals.bytes);
  EXPECT_EQ(made.totals.stored_bytes, was.totals.stored_bytes);
  EXPECT_EQ(made.problems, was.problems);
  EXPECT_EQ(made.carries, was.carries);
  EXPECT_EQ(made.guard, was.guard);
  EXPECT_EQ(made.needs.empty(), was.needs.empty()) << "it would hold what nobody needs";
}

TEST(Repair, SealsOfWhichNoneIsLeftAreMadeAnew) {
  // The last but one is a full one again.
  RepairChain chain("parity = \"5%\"\n", 7);
  ASSERT_THAT(chain.bad_files(), IsEmpty());
  const std::map<std::string, std::string> good = chain.volumes(chain.bench.drive());
  const SetList before = chain.bench.subject().sets();
  for (const auto& [point, model] : chain.models) {
    SCOPED_TRACE("point " + std::to_string(point));
    const std::string folder = chain.bench.set_folder(point);
    const bool folded = folder.find("_from-") != std::string::npos;
    fs::remove(folder + "/seal.json");
    write_file(folder + "/seal-copy.json", read_file(folder + "/seal-copy.json").substr(100));
    ASSERT_GT(count(chain.bad_files()), 0u);
    const RepairResult dry = chain.repair({.dry = true}).at(0);
    EXPECT_FALSE(fs::exists(folder + "/seal.json"));
    const RepairResult result = chain.repair().at(0);
    if (folded) {
      EXPECT_EQ(dry.not_sealed.size(), 1u);
      EXPECT_THAT(result.sealed_anew, IsEmpty());
      chain.back();
      continue;
    }
    EXPECT_EQ(dry.sealed_anew, std::vector<Sequence>{point});
    EXPECT_EQ(result.sealed_anew, std::vector<Sequence>{point});
    EXPECT_TRUE(result.left.good());
    EXPECT_THAT(chain.bad_files(), IsEmpty());
    EXPECT_TRUE(chain.volumes(chain.bench.drive()) == good);
    expect_same_facts(chain.bench.subject().sets().sealed(point)->facts(), before.sealed(point)->facts());
    // Its parity is known again.
    const std::string volume = folder + "/data-001.kvol";
    std::string text = read_file(volume);
    text[text.size() / 2] ^= 1;
    write_file(volume, text);
    EXPECT_TRUE(chain.repair().at(0).left.good());
    EXPECT_TRUE(chain.volumes(chain.bench.drive()) == good);
  }
  // Runs go on.
  fs::rename(chain.bench.path("away"), chain.bench.source());
  const Sequence next = chain.bench.run_good();
  EXPECT_EQ(compare_snapshots(take_snapshot(chain.bench.source()), chain.bench.restored(next)), "");
  EXPECT_TRUE(chain.bench.verified().good());
}

TEST(Repair, PiecesComeFromAnotherDestination) {
  Workbench bench(both_config, use_both);
  give_second_destination(bench);
  for (unsigned i = 0; i < 10; ++i) write_file(bench.source() + "/" + std::to_string(i), noise(i, 50000));
  for (const RunOutcome& outcome : run_job("job", {}, bench.context())) ASSERT_TRUE(outcome.entry.sequence);
  fs::rename(bench.source(), bench.path("away"));
  const std::string volume = bench.set_folder(1) + "/data-001.kvol", good = read_file(volume);
  std::string spoilt = good;
  for (std::size_t at = 1000; at < spoilt.size(); at += 30000) spoilt[at] ^= 1;
  write_file(volume, spoilt);
  ASSERT_FALSE(bench.verified().good());
  const std::vector<RepairResult> results = repair_job("job", {}, bench.context());
  ASSERT_EQ(results.size(), 2u);
  EXPECT_FALSE(results[0].found.good());
  EXPECT_TRUE(results[0].left.good());
  ASSERT_EQ(results[0].sets.size(), 1u);
  EXPECT_GT(results[0].sets[0].from_elsewhere, 0u);
  EXPECT_EQ(results[0].sets[0].from_elsewhere, results[0].sets[0].pieces_lost);
  EXPECT_FALSE(results[1].changed) << "the good one is left alone";
  EXPECT_EQ(compare_snapshots(take_snapshot(bench.path("away")), bench.restored(1)), "");
}

TEST(Repair, ParityIsAddedWhenAsked) {
  RepairChain chain("", 3);
  EXPECT_THROW(chain.repair({.add_parity = true}), Error) << "the job has none";
  std::string text = chain.bench.home().load_job("job").text;
  text.replace(text.find("encryption"), 0, "parity = \"10%\"\n");
  chain.bench.set_job(text);
  EXPECT_THAT(chain.files(".kmend"), IsEmpty());
  const std::uint64_t stored = chain.bench.subject().sets()[0].facts().totals.stored_bytes;
  const RepairResult dry = chain.repair({.dry = true, .add_parity = true}).at(0);
  EXPECT_EQ(dry.sets.size(), chain.models.size());
  EXPECT_THAT(chain.files(".kmend"), IsEmpty());
  const RepairResult result = chain.repair({.add_parity = true}).at(0);
  EXPECT_TRUE(result.left.good());
  EXPECT_EQ(chain.files(".kmend").size(), chain.files(".kvol").size() + chain.files(".kidx").size());
  // It counts in what the sets take.
  EXPECT_GT(chain.bench.subject().sets()[0].facts().totals.stored_bytes, stored + stored / 11);
  EXPECT_FALSE(chain.repair({.add_parity = true}).at(0).changed);
  // And it mends.
  const std::string volume = chain.files(".kvol")[0], good = read_file(volume);
  std::string spoilt = good;
  std::fill_n(spoilt.begin() + 8192, 4096, '\0');
  write_file(volume, spoilt);
  EXPECT_TRUE(chain.repair().at(0).left.good());
  EXPECT_EQ(read_file(volume), good);
}

// What somebody has put in the place of the parity makes nothing worse.
TEST(Repair, ForgedParityIsOfNoUseAndDoesNoHarm) {
  RepairChain chain("parity = \"5%\"\n", 3);
  const std::string volume = chain.files(".kvol")[0];
  std::string parity_file = volume;
  parity_file.replace(volume.rfind("data-"), std::string::npos, "mend-001.kmend");
  // Lists by which everything is wrong.
  std::string text = read_file(parity_file);
  for (std::size_t at = 160; at < 160 + 8 * 30; ++at) text[at] ^= 0x55;
  for (std::size_t at = text.size() - 32 - 8 * 40; at < text.size() - 32; ++at) text[at] ^= 0x55;
  write_file(parity_file, text);
  const std::string good = read_file(volume);
  const RepairResult result = chain.repair().at(0);
  EXPECT_TRUE(result.left.good());
  EXPECT_EQ(read_file(volume), good);
  EXPECT_THAT(chain.bad_files(), IsEmpty());
}

}  // namespace
}  // namespace kestrum::test
