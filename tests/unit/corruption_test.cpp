// A small chain of sets, damaged in every way that a drive or a person can: verify finds it and names what is
// affected, restore never leaves a wrong byte under a final name.
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <algorithm>

#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

// Under a sanitizer, which takes ten times as long, one byte in eleven; otherwise every one.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr std::size_t step = 11;
#else
constexpr std::size_t step = 1;
#endif

constexpr const char* job_folder = "skerry-1/job";

// A full and an increment, in memory, with the key at hand.
class SmallChain : public testing::Test {
 protected:
  static void SetUpTestSuite() {
    pristine_ = new Shared;
    Workbench bench;
    write_file(bench.path("pass"), "tern in the fog\n");
    chmod(bench.path("pass").c_str(), 0600);
    bench.set_job("[what]\nfolders = [\"" + bench.source() + "\"]\n[where]\ndestinations = [\"" +
                  bench.drive() + "\"]\n[how]\nvolume-size = \"64 KiB\"\n[protect]\npassphrase = \"file:" +
                  bench.path("pass") + "\"\n");
    write_file(bench.source() + "/ringing.csv", "ring,species\nA1,heron\n");
    write_file(bench.source() + "/moths/2026-07-01.txt", "Garden Tiger 3\n");
    bench.run_good();
    write_file(bench.source() + "/moths/2026-07-02.txt", "Buff Ermine 1\n");
    bench.run_good();
    pristine_->store = MemoryStore::load(bench.drive());
    LookSession opened = bench.subject();
    for (const FoundSet& set : opened.sets()) {
      // The key by itself, so that flips in key entries are told by the seals' own checks.
      Id chain = set.seal->core.facts.chain;
      pristine_->master[chain] = {set.seal->keys, opened.keys().unlock(set.seal->keys, chain)};
      pristine_->job = set.seal->core.job;
    }
    pristine_->content[bench.source() + "/ringing.csv"] = "ring,species\nA1,heron\n";
    pristine_->content[bench.source() + "/moths/2026-07-01.txt"] = "Garden Tiger 3\n";
    pristine_->content[bench.source() + "/moths/2026-07-02.txt"] = "Buff Ermine 1\n";
  }
  static void TearDownTestSuite() {
    delete pristine_;
    pristine_ = nullptr;
  }

  void SetUp() override {
    store_.files() = pristine_->store.files();
    store_.folders() = pristine_->store.folders();
  }

  KeyRing ring() const {
    KeyRing keys({});
    for (const auto& [chain, one] : pristine_->master) keys.add(one.first, chain, one.second);
    return keys;
  }

  VerifyResult verify_all() {
    KeyRing keys = ring();
    Observer silent;
    RunControl control;
    return verify_sets(store_, SetList(store_, job_folder, pristine_->job), keys, {}, SystemClock(), nullptr,
                       silent, control);
  }

  // Reads every file of the newest point, as restore does, and compares. Counts the good ones; a wrong byte
  // fails.
  std::size_t readable_files() {
    std::size_t good = 0;
    KeyRing keys = ring();
    try {
      OpenPoint point(store_, SetList(store_, job_folder, pristine_->job), keys,
                      {PointWish::By::number, 2, {}});
      CatalogReader catalog = point.catalog();
      while (std::optional<Entry> entry = catalog.next()) {
        if (entry->type != EntryType::file) continue;
        try {
          std::string content;
          for (const ContentItem& item : entry->content) {
            Bytes chunk = point.reader().fetch(item.ref());
            content += as_text(chunk);
          }
          auto expected = pristine_->content.find(entry->path.absolute());
          if (expected == pristine_->content.end()) {
            ADD_FAILURE() << "a file that never was: " << entry->path.absolute();
          } else {
            EXPECT_EQ(content, expected->second);
          }
          ++good;
        } catch (const Error& error) {
          EXPECT_EQ(error.kind(), ErrorKind::damage) << error.what();
        }
      }
    } catch (const Error& error) {
      EXPECT_TRUE(error.kind() == ErrorKind::damage || error.kind() == ErrorKind::failed ||
                  error.kind() == ErrorKind::usage)
          << error.what();
    }
    return good;
  }

  std::vector<std::string> set_files() const {
    std::vector<std::string> names;
    for (const auto& [path, content] : pristine_->store_files()) {
      if (path.starts_with(std::string(job_folder) + "/0")) names.push_back(path);
    }
    return names;
  }

  struct Shared {
    MemoryStore store;
    std::map<Id, std::pair<std::vector<KeyEntry>, SecretKey>> master;
    Id job{};
    std::map<std::string, std::string> content;
    const MemoryStore::Files& store_files() { return store.files(); }
  };
  static Shared* pristine_;
  MemoryStore store_;
};
SmallChain::Shared* SmallChain::pristine_ = nullptr;

TEST_F(SmallChain, IsGoodAsItIs) {
  EXPECT_TRUE(verify_all().good());
  EXPECT_EQ(readable_files(), 3u);
  std::uint64_t bytes = 0;
  for (const std::string& path : set_files()) bytes += store_.files()[path].size();
  EXPECT_LE(bytes, 64u << 10);
}

TEST_F(SmallChain, EachFlippedBitIsFound) {
  std::uint64_t flips = 0;
  for (const std::string& path : set_files()) {
    Bytes& content = store_.files()[path];
    for (std::size_t at = 0; at < content.size(); at += step) {
      for (int bit = 0; bit < 8; ++bit, ++flips) {
        content[at] ^= static_cast<std::uint8_t>(1 << bit);
        VerifyResult found = verify_all();
        ASSERT_FALSE(found.good()) << path << " byte " << at << " bit " << bit;
        bool named = std::any_of(found.points.begin(), found.points.end(),
                                 [](const PointVerdict& point) { return !point.findings.empty(); });
        ASSERT_TRUE(named) << path << " byte " << at << " bit " << bit;
        if (bit == 0) readable_files();
        content[at] ^= static_cast<std::uint8_t>(1 << bit);
      }
    }
  }
  RecordProperty("flips", static_cast<int>(flips));
  EXPECT_TRUE(verify_all().good());
}

// As reading back after a run looks at them, each frame a part of its own: every byte is what was sealed.
TEST_F(SmallChain, EachFlippedBitIsFoundWithoutUnpacking) {
  const auto findings = [this] {
    std::size_t count = 0;
    const SetList sets(store_, job_folder, pristine_->job);
    for (const FoundSet& set : sets) {
      SetReader reader(store_, sets.shared(set.folder.sequence), pristine_->master[set.facts().chain].second);
      CheckOptions options;
      options.frames = FrameCheck::authentic;
      SetCheck check(reader, options, 1);
      for (const Stretch& part : check.stretches()) check.check(part);
      count += check.finish().findings.size();
    }
    return count;
  };
  EXPECT_EQ(findings(), 0u);
  for (const std::string& path : set_files()) {
    if (!path.ends_with(".kvol") && !path.ends_with(".kidx")) continue;
    Bytes& content = store_.files()[path];
    for (std::size_t at = 0; at < content.size(); at += step) {
      content[at] ^= static_cast<std::uint8_t>(1 << (at % 8));
      ASSERT_GT(findings(), 0u) << path << " byte " << at;
      content[at] ^= static_cast<std::uint8_t>(1 << (at % 8));
    }
  }
}

TEST_F(SmallChain, EachTruncationIsFound) {
  for (const std::string& path : set_files()) {
    Bytes whole = store_.files()[path];
    for (std::size_t size = 0; size < whole.size(); size += step) {
      store_.files()[path].assign(whole.begin(), whole.begin() + static_cast<std::ptrdiff_t>(size));
      ASSERT_FALSE(verify_all().good()) << path << " cut to " << size;
      if (size % 16 == 0) readable_files();
    }
    store_.files()[path] = whole;
    store_.files()[path].push_back(0);
    ASSERT_FALSE(verify_all().good()) << path << " with a byte too many";
    store_.files()[path] = whole;
  }
}

TEST_F(SmallChain, EachMissingFileIsFound) {
  for (const std::string& path : set_files()) {
    Bytes whole = store_.files()[path];
    store_.files().erase(path);
    EXPECT_FALSE(verify_all().good()) << path;
    readable_files();
    store_.files()[path] = whole;
  }
}

// Every file put in the place of every other one of its sort, within and across sets.
TEST_F(SmallChain, EachSwappedFileIsFound) {
  std::vector<std::string> names = set_files();
  for (const std::string& a : names) {
    for (const std::string& b : names) {
      if (a >= b || store_.files()[a] == store_.files()[b]) continue;
      std::swap(store_.files()[a], store_.files()[b]);
      EXPECT_FALSE(verify_all().good()) << a << " and " << b;
      readable_files();
      std::swap(store_.files()[a], store_.files()[b]);
    }
  }
}

TEST_F(SmallChain, ASealOrVolumeOfAnotherJobIsFound) {
  Workbench other;
  write_file(other.source() + "/ringing.csv", "another job altogether\n");
  other.run_good();
  MemoryStore foreign = MemoryStore::load(other.drive());
  for (const std::string& path : set_files()) {
    std::string name = path.substr(path.rfind('/') + 1);
    for (const auto& [from, content] : foreign.files()) {
      if (!from.ends_with("/" + name)) continue;
      Bytes whole = std::exchange(store_.files()[path], content);
      EXPECT_FALSE(verify_all().good()) << path;
      readable_files();
      store_.files()[path] = whole;
    }
  }
}

TEST_F(SmallChain, OneDamagedSealLeavesEverythingReadable) {
  for (const char* name : {"/seal.json", "/seal-copy.json"}) {
    for (const std::string& path : set_files()) {
      if (!path.ends_with(name)) continue;
      store_.files()[path][100] ^= 1;
    }
    EXPECT_FALSE(verify_all().good());
    EXPECT_EQ(readable_files(), 3u) << name;
    SetUp();
  }
}

TEST_F(SmallChain, DamageIsToldByFileAndPoint) {
  // The last content byte of the full's volume: both points need it, and no other file is affected.
  for (const std::string& path : set_files()) {
    if (path.find("000001_") == std::string::npos || !path.ends_with(".kvol")) continue;
    store_.files()[path][FileHeader::size + FrameHead::size + 60] ^= 1;
    break;
  }
  VerifyResult found = verify_all();
  ASSERT_EQ(found.points.size(), 2u);
  EXPECT_EQ(found.points[0].affected_count, 2u);
  EXPECT_EQ(found.points[1].affected_count, 2u);
  EXPECT_TRUE(found.points[1].findings.empty());
  EXPECT_TRUE(found.points[0].affected.at(0).path.ends_with("/moths/2026-07-01.txt"));
  EXPECT_EQ(readable_files(), 1u);
}

// The same through restore itself, on real files: one flipped bit in each byte.
TEST_F(SmallChain, RestoreLeavesNoWrongByteUnderAFinalName) {
  TempFolder folder;
  Observer silent;
  int target = 0;
  for (const std::string& path : set_files()) {
    Bytes& content = store_.files()[path];
    for (std::size_t at = 0; at < content.size(); at += 3 * step) {
      content[at] ^= 0x10;
      std::string to = folder / std::to_string(++target);
      KeyRing keys = ring();
      try {
        OpenPoint point(store_, SetList(store_, job_folder, pristine_->job), keys,
                        {PointWish::By::number, 2, {}});
        RestoreRequest request;
        request.paths = {TreePath()};
        request.target = to;
        request.layout = Layout::path;
        RunControl control;
        RestoreResult result = restore(point, request, silent, control, {});
        EXPECT_EQ(result.damaged, result.files < 3) << path << " byte " << at;
      } catch (const Error& error) {
        EXPECT_NE(error.kind(), ErrorKind::full);
      }
      if (!std::filesystem::exists(to)) {
        content[at] ^= 0x10;
        continue;
      }
      for (const auto& entry : std::filesystem::recursive_directory_iterator(to)) {
        if (!entry.is_regular_file()) continue;
        std::string name = entry.path().string().substr(to.size());
        auto expected = pristine_->content.find(name);
        ASSERT_NE(expected, pristine_->content.end()) << name;
        ASSERT_EQ(read_file(entry.path().string()), expected->second) << path << " byte " << at;
      }
      std::filesystem::remove_all(to);
      content[at] ^= 0x10;
    }
  }
}

}  // namespace
}  // namespace kestrum::test
