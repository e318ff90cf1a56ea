// A chain of all kinds of sets with parity, damaged in every way that a drive can: what verify says is what
// restoring every file shows, and repair brings back all that can be brought back, and makes nothing worse.
#include "engine/repair.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/extent.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::IsEmpty;

using BadFiles = std::map<Sequence, std::set<std::string>>;  // paths below the source, of each point

class Chain {
 public:
  explicit Chain(const std::string& protect = "parity = \"5%\"\n", unsigned points = 10)
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
      if (i == 7) fs::remove(bench.source() + "/2");
      const Kind kind = i == 0 || i == 6 ? Kind::full : i == 4 ? Kind::differential : Kind::incremental;
      const Sequence point = bench.run_good(kind);
      models[point] = take_snapshot(bench.source());
    }
    if (points > 4) {
      EXPECT_EQ(bench.fold(2, 3), 1u);
      models.erase(2);
    }
    // Nothing of it is to be had from today's files.
    fs::rename(bench.source(), bench.path("away"));
    keep();
  }

  void file(unsigned name, std::size_t size) {
    write_file(bench.source() + "/" + std::to_string(name), noise(++seed_, size));
  }
  // As it is now, and back to it.
  void keep() {
    fs::remove_all(bench.path("kept"));
    fs::copy(bench.drive(), bench.path("kept"), fs::copy_options::recursive);
  }
  void back() {
    fs::remove_all(bench.drive());
    fs::copy(bench.path("kept"), bench.drive(), fs::copy_options::recursive);
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
      if (fs::exists(target + "/source")) found = take_snapshot(target + "/source");
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
      fs::remove_all(target);
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
    for (const auto& entry : fs::recursive_directory_iterator(below)) {
      if (entry.path().extension() == ".kvol")
        all[entry.path().string().substr(below.size())] = read_file(entry.path().string());
    }
    return all;
  }
  std::vector<std::string> files(const std::string& ending) const {
    std::vector<std::string> all;
    for (const auto& entry : fs::recursive_directory_iterator(bench.drive() + "/skerry-1/job")) {
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

// One kind of damage, somewhere; `promised`: repair must bring everything back bit for bit.
class Damage {
 public:
  Damage(Chain& chain, unsigned seed) : chain_(chain), random_(seed) {}

  bool promised = true;
  std::string words;

  void strike() {
    switch (below(11)) {
      case 0:
        return each(".kvol", 3, "bits", [this](std::string& text) {
          // A small file has one parity slice of each group only.
          const std::size_t most = text.size() < 1u << 20 ? 1 : 2;
          for (std::size_t i = 0; i < most; ++i)
            text[below(text.size())] ^= static_cast<char>(1u << below(8));
        });
      case 1:
        return each(".kvol", 2, "bad sectors",
                    [this](std::string& text) { zero(text, below(text.size() / 4096), 1); });
      case 2:
        return each(".kvol", 1, "a run of bad sectors", [this](std::string& text) {
          zero(text, below(text.size() / 4096), promised_slices(text.size()));
        });
      case 3:
        return each(".kvol", 1, "cut short", [this](std::string& text) {
          text.resize(text.size() - 1 - below((text.size() - 1) % 4096));
        });
      case 4:
        return each(".kmend", 3, "damaged parity",
                    [this](std::string& text) { zero(text, below(text.size() / 4096), 2); });
      case 5:
        return each(".kidx", 2, "an index damaged",
                    [this](std::string& text) { zero(text, 0, text.size()); });
      case 6:
        return each("seal.json", 2, "seals damaged",
                    [this](std::string& text) { text[below(text.size())] ^= 4; });
      case 7:
        promised = false;
        return each(
            ".kvol", 1, "a volume lost", [](std::string& text) { text.clear(); }, true);
      case 8:
        promised = false;
        return swap();
      case 9:
        promised = false;
        return each(".kvol", 2, "a long run", [this](std::string& text) {
          zero(text, below(text.size() / 4096), text.size() / 4096 / 2 + 9);
        });
      case 10:
        promised = false;
        each(".kvol", 1, "a volume", [this](std::string& text) { zero(text, 0, 1 + text.size() / 8192); });
        return each(".kidx", 3, "and indexes", [this](std::string& text) { zero(text, 0, text.size()); });
    }
  }

 private:
  std::size_t below(std::size_t limit) {
    return limit < 2 ? 0 : std::uniform_int_distribution<std::size_t>(0, limit - 1)(random_);
  }
  // A twentieth of the file, whatever its groups are.
  static std::size_t promised_slices(std::size_t size) {
    return std::max<std::size_t>(1, size / 4096 * 5 / 100);
  }
  static void zero(std::string& text, std::size_t slice, std::size_t slices) {
    const std::size_t from = std::min(text.size(), slice * 4096),
                      to = std::min(text.size(), (slice + slices) * 4096);
    std::fill(text.begin() + static_cast<std::ptrdiff_t>(from),
              text.begin() + static_cast<std::ptrdiff_t>(to), '\0');
  }
  void each(const std::string& ending, std::size_t most, const std::string& what,
            const std::function<void(std::string&)>& spoil, bool remove = false) {
    std::vector<std::string> files = chain_.files(ending);
    std::shuffle(files.begin(), files.end(), random_);
    files.resize(std::min(files.size(), 1 + below(most)));
    for (const std::string& file : files) {
      std::string text = read_file(file);
      spoil(text);
      words += what + " in " + file.substr(file.rfind("/0")) + "; ";
      if (remove) {
        fs::remove(file);
      } else {
        write_file(file, text);
      }
    }
  }
  void swap() {
    std::vector<std::string> files = chain_.files(".kvol");
    std::shuffle(files.begin(), files.end(), random_);
    fs::rename(files[0], files[0] + ".x");
    fs::rename(files[1], files[0]);
    fs::rename(files[0] + ".x", files[1]);
    words += files[0].substr(files[0].rfind("/0")) + " and " + files[1].substr(files[1].rfind("/0")) +
             " swapped; ";
  }

  Chain& chain_;
  std::mt19937 random_;
};

bool is_within(const BadFiles& after, const BadFiles& before) {
  for (const auto& [point, files] : after) {
    const auto found = before.find(point);
    if (found == before.end()) return false;
    for (const std::string& file : files) {
      if (!found->second.contains(file)) return false;
    }
  }
  return true;
}

std::size_t count(const BadFiles& bad) {
  std::size_t files = 0;
  for (const auto& [point, paths] : bad) files += paths.size();
  return files;
}

TEST(Repair, TheVerdictIsExactAndNothingThatCanComeBackStaysAway) {
  Chain chain;
  ASSERT_EQ(chain.models.size(), 10u);
  const std::map<std::string, std::string> good = chain.volumes(chain.bench.drive());
  const unsigned trials = extent("KESTRUM_REPAIR_TRIALS", 22);
  std::size_t damaged = 0, mended = 0;
  for (unsigned trial = 0; trial < trials; ++trial) {
    Damage damage(chain, 1000 + trial);
    damage.strike();
    SCOPED_TRACE("trial " + std::to_string(trial) + ": " + damage.words);
    const BadFiles before = chain.bad_files();
    chain.expect_exact(chain.bench.verified(), before);
    // Looking changes nothing.
    const std::map<std::string, std::string> spoilt = chain.volumes(chain.bench.drive());
    const RepairResult dry = chain.repair({.dry = true}).at(0);
    EXPECT_FALSE(dry.changed);
    EXPECT_EQ(chain.volumes(chain.bench.drive()), spoilt);

    const RepairResult result = chain.repair().at(0);
    const BadFiles after = chain.bad_files();
    chain.expect_exact(result.left, after);
    EXPECT_TRUE(is_within(after, before)) << "it has become worse";
    if (damage.promised) {
      EXPECT_THAT(after, IsEmpty());
      EXPECT_TRUE(result.left.good());
      EXPECT_TRUE(chain.volumes(chain.bench.drive()) == good) << "not bit for bit";
    }
    damaged += count(before);
    mended += count(before) - count(after);
    // Once more there is nothing to do.
    const RepairResult again = chain.repair().at(0);
    EXPECT_FALSE(again.changed && result.left.good());
    if (HasFailure()) return;
    chain.back();
  }
  std::printf("%u trials: %zu files could not be restored before, %zu of them afterwards\n", trials, damaged,
              damaged - mended);
}

TEST(Repair, PiecesComeFromTodaysFilesWhereTheseStillHaveThem) {
  Chain chain("", 3);
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

// A list has pages of pages: what a lost page names is found missing only once the page is back.
TEST(Repair, PagesOfAListComeFromAnotherDestination) {
  Workbench bench(both_config, use_both);
  give_second_destination(bench);
  for (unsigned i = 0; i < 3000; ++i)
    write_file(bench.source() + "/" + std::to_string(i % 40) + "/list-of-rings-" + std::to_string(i), "x");
  bench.settle_files();
  for (const RunOutcome& outcome : run_job("job", {}, bench.context())) ASSERT_TRUE(outcome.entry.sequence);
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

TEST(Repair, SealsOfWhichNoneIsLeftAreMadeAnew) {
  Chain chain("parity = \"5%\"\n", 5);
  ASSERT_THAT(chain.bad_files(), IsEmpty());
  const std::map<std::string, std::string> good = chain.volumes(chain.bench.drive());
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
  Chain chain("", 3);
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
  Chain chain("parity = \"5%\"\n", 3);
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

struct RepairFaultCase {
  const char* name;
  bool for_ever;
  bool objects;
  bool reads = false;
};
class RepairFaults : public testing::TestWithParam<RepairFaultCase> {};

// Operation N of a repair fails: nothing becomes worse, and the next one mends.
TEST_P(RepairFaults, EveryOperationMayFail) {
  std::optional<UseObjects> objects;
  if (GetParam().objects) objects.emplace();
  Chain chain("parity = \"5%\"\n", 3);
  // A volume that parity mends, an index that it does not, a seal, and parity itself.
  const std::vector<std::string> volumes = chain.files(".kvol");
  std::string text = read_file(volumes[0]);
  std::fill_n(text.begin() + 4096, 4096, '\0');
  write_file(volumes[0], text);
  const std::string index = chain.files(".kidx")[1];
  write_file(index, std::string(fs::file_size(index), '\0'));
  text = read_file(chain.files("seal.json")[2]);
  text[50] ^= 1;
  write_file(chain.files("seal.json")[2], text);
  const std::string parity = chain.files(".kmend").back();
  text = read_file(parity);
  text[text.size() / 2] ^= 1;
  write_file(parity, text);
  chain.keep();
  const BadFiles before = chain.bad_files();
  bool got_through = false;
  std::uint64_t swept = 0;
  for (std::uint64_t n = 1; !got_through; n += n < 60 || extent("KESTRUM_EVERY", 0) != 0 ? 1 : 7) {
    ASSERT_LT(n, 5000u);
    ++swept;
    auto state = std::make_shared<FaultStore::State>();
    state->fault = {n, GetParam().for_ever, EIO, true, GetParam().reads};
    chain.bench.open_store = [&](const std::string& root) {
      return std::make_unique<FaultStore>(usual_store(root), state);
    };
    try {
      chain.repair();
    } catch (const Error& error) {
      EXPECT_TRUE(error.kind() == ErrorKind::failed || error.kind() == ErrorKind::no_destination ||
                  error.kind() == ErrorKind::damage)
          << n << ": " << error.what();
    }
    chain.bench.open_store = usual_store;
    got_through = state->done < n;
    const BadFiles between = chain.bad_files();
    EXPECT_TRUE(is_within(between, before)) << n;
    const RepairResult result = chain.repair().at(0);
    EXPECT_TRUE(result.left.good()) << n;
    EXPECT_THAT(chain.bad_files(), IsEmpty()) << n;
    EXPECT_THAT(chain.files(".mending"), IsEmpty()) << n;
    if (HasFailure()) return;
    chain.back();
  }
  std::printf("%s: %llu moments\n", GetParam().name, static_cast<unsigned long long>(swept));
}

INSTANTIATE_TEST_SUITE_P(Ways, RepairFaults,
                         testing::Values(RepairFaultCase{"once", false, false},
                                         RepairFaultCase{"for_ever", true, false},
                                         RepairFaultCase{"objects_for_ever", true, true},
                                         RepairFaultCase{"reads_once", false, false, true}),
                         [](const auto& way) { return way.param.name; });

}  // namespace
}  // namespace kestrum::test
