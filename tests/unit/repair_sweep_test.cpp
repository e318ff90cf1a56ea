// A chain of all kinds of sets with parity, damaged in every way that a drive can: what verify says is what
// restoring every file shows, and repair brings back all that can be brought back, and makes nothing worse.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

#include "support/extent.hpp"
#include "support/repair_chain.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::IsEmpty;

// One kind of damage, somewhere; `promised`: repair must bring everything back bit for bit.
class Damage {
 public:
  Damage(RepairChain& chain, unsigned seed) : chain_(chain), random_(seed) {}

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

  RepairChain& chain_;
  std::mt19937 random_;
};

TEST(Repair, TheVerdictIsExactAndNothingThatCanComeBackStaysAway) {
  RepairChain chain;
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
  RepairChain chain("parity = \"5%\"\n", 3);
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
  for (std::uint64_t n = 1; !got_through; n += n < 60 || extent("KESTRUM_EVERY", 0) != 0 ? 1 : 3) {
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

// One read fails while pieces are taken from today's files and what is left of a volume is written anew: that
// is no reason to give up anything that was good.
TEST(RepairReads, ThatFailOnceLoseNothing) {
  const InMemory in_memory;
  Workbench bench("[protect]\nencryption = \"none\"\nguard = \"no\"\n[check]\nafter-run = \"nothing\"\n");
  for (unsigned i = 0; i < 3; ++i) write_file(bench.source() + "/" + std::to_string(i), noise(i, 4u << 20));
  bench.settle_files();
  bench.run_good();
  const Snapshot was = take_snapshot(bench.source());
  const std::string volume = bench.set_folder(1) + "/data-001.kvol";
  std::string text = read_file(volume);
  text[1u << 20] ^= 1;
  write_file(volume, text);
  fs::copy(bench.drive(), bench.path("kept"), fs::copy_options::recursive);
  bool got_through = false;
  std::uint64_t swept = 0;
  for (std::uint64_t n = 1; !got_through; ++n, ++swept) {
    ASSERT_LT(n, 5000u);
    auto state = std::make_shared<FaultStore::State>();
    state->fault = {n, false, EIO, true, true};
    bench.open_store = [&](const std::string& root) {
      return std::make_unique<FaultStore>(usual_store(root), state);
    };
    try {
      repair_job("job", {}, bench.context());
    } catch (const Error& error) {
      EXPECT_TRUE(error.kind() == ErrorKind::failed || error.kind() == ErrorKind::damage)
          << n << error.what();
    }
    bench.open_store = usual_store;
    got_through = state->done < n;
    // Without today's files, what is good still is.
    fs::rename(bench.source(), bench.path("away"));
    Snapshot found;
    bench.restore_to(bench.path("out"), 1);
    found = take_snapshot(bench.path("out") + "/source");
    for (const char* name : {"1", "2"}) {
      ASSERT_TRUE(found.contains(name)) << n;
      EXPECT_EQ(found[name].content, was.at(name).content) << n;
    }
    fs::remove_all(bench.path("out"));
    fs::rename(bench.path("away"), bench.source());
    EXPECT_TRUE(repair_job("job", {}, bench.context()).at(0).left.good()) << n;
    EXPECT_EQ(compare_snapshots(was, bench.restored(1)), "") << n;
    if (HasFailure()) return;
    fs::remove_all(bench.drive());
    fs::copy(bench.path("kept"), bench.drive(), fs::copy_options::recursive);
  }
  std::printf("reads that fail once: %llu moments\n", static_cast<unsigned long long>(swept));
}

INSTANTIATE_TEST_SUITE_P(Ways, RepairFaults,
                         testing::Values(RepairFaultCase{"once", false, false},
                                         RepairFaultCase{"for_ever", true, false},
                                         RepairFaultCase{"objects_for_ever", true, true},
                                         RepairFaultCase{"reads_once", false, false, true}),
                         [](const auto& way) { return way.param.name; });

}  // namespace
}  // namespace kestrum::test
