// repair as a technician meets it, and killed at any moment of it.
#include <gmock/gmock.h>
#include <signal.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/extent.hpp"
#include "support/random_kills.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

class RepairVerb : public testing::Test {
 protected:
  void SetUp() override {
    ASSERT_EQ(
        desk_.define({"--protect-parity", "5%", "--check-after-run", "nothing", "--how-volume-size", "1 MiB"})
            .exit,
        0);
    for (unsigned i = 0; i < 3; ++i) {
      write_file(desk_.source() + "/sounds-" + std::to_string(i), noise(i, 3u << 20));
      ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
    }
    model_ = take_snapshot(desk_.source());
    fs::rename(desk_.source(), desk_.folder / "away");
    fs::copy(desk_.drive(), desk_.folder / "kept", fs::copy_options::recursive);
  }
  void zero(const std::string& file, std::size_t slice, std::size_t slices) {
    std::string text = read_file(file);
    std::fill_n(text.begin() + static_cast<std::ptrdiff_t>(slice * 4096), slices * 4096, '\0');
    write_file(file, text);
  }
  std::map<std::string, std::string> volumes() const {
    std::map<std::string, std::string> all;
    for (const auto& entry : fs::recursive_directory_iterator(desk_.drive())) {
      if (entry.path().extension() == ".kvol") all[entry.path().string()] = read_file(entry.path().string());
    }
    return all;
  }
  bool restores() {
    const std::string to = desk_.folder / "out";
    const int code =
        desk_({"restore", "wardens", desk_.source(), "--to", to, "--with-owners", "--quiet"}).exit;
    const bool same = code == 0 && compare_snapshots(model_, take_snapshot(to + "/source")).empty();
    fs::remove_all(to);
    return same;
  }
  Desk desk_;
  Snapshot model_;
};

TEST_F(RepairVerb, SaysWhatItWouldDoAndDoesIt) {
  EXPECT_THAT(desk_({"repair", "wardens", "--quiet"}).out,
              HasSubstr("Everything is as it was sealed: nothing to repair."));
  const auto good = volumes();
  zero(desk_.set_folder(1) + "/data-001.kvol", 5, 3);
  // Too small for its parity to be of no use: that goes as well.
  fs::remove(desk_.set_folder(2) + "/index.kidx");
  fs::remove(desk_.set_folder(2) + "/mend-000.kmend");
  fs::remove(desk_.set_folder(3) + "/seal.json");
  const Ran dry = desk_({"repair", "wardens", "--dry", "--quiet"});
  EXPECT_EQ(dry.exit, 4);
  EXPECT_THAT(dry.out, HasSubstr("data-001.kvol: 3 bad places of 4 KiB, to be mended from its parity"));
  EXPECT_THAT(dry.out, HasSubstr("its index would be made anew from its volumes"));
  EXPECT_THAT(dry.out, HasSubstr("one of its two seals would be written as the other"));
  EXPECT_THAT(dry.out, HasSubstr("Nothing was changed."));
  const Ran done = desk_({"repair", "wardens", "--quiet"});
  EXPECT_EQ(done.exit, 0) << done.out << done.err;
  EXPECT_THAT(done.out, HasSubstr("mended from its parity"));
  EXPECT_THAT(done.out, HasSubstr("Everything can be restored as it was."));
  EXPECT_EQ(volumes(), good);
  EXPECT_TRUE(restores());
  EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
  EXPECT_THAT(desk_({"points", "wardens"}).out, Not(HasSubstr("damaged")));
}

TEST_F(RepairVerb, NamesWhatStaysLost) {
  fs::remove(desk_.set_folder(1) + "/data-001.kvol");
  const Ran done = desk_({"repair", "wardens", "--quiet"});
  EXPECT_EQ(done.exit, 4);
  EXPECT_THAT(done.out, HasSubstr("nowhere to be found"));
  EXPECT_THAT(done.out, HasSubstr("data-001.kvol: nothing of it reads"));
  EXPECT_THAT(done.out, HasSubstr("sounds-0"));
  EXPECT_THAT(done.out, Not(HasSubstr("sounds-2")));
  const auto json = nlohmann::json::parse(desk_({"repair", "wardens", "--json", "--quiet"}).out);
  EXPECT_EQ(json["good"], false);
  EXPECT_EQ(json["destinations"][0]["affected-files"][0]["files"], 1);
  // With today's files back it can be had again.
  fs::rename(desk_.folder / "away", desk_.source());
  const Ran again = desk_({"repair", "wardens", "--quiet"});
  EXPECT_EQ(again.exit, 0) << again.out;
  EXPECT_THAT(again.out, HasSubstr("from today's files"));
  EXPECT_TRUE(restores());
}

TEST_F(RepairVerb, BothSealsOfAnEncryptedSet) {
  const auto good = volumes();
  fs::remove(desk_.set_folder(2) + "/seal.json");
  fs::remove(desk_.set_folder(2) + "/seal-copy.json");
  const Ran found = desk_({"verify", "wardens", "--quiet"});
  EXPECT_EQ(found.exit, 4);
  EXPECT_THAT(found.out, HasSubstr("What could be mended: kestrum repair wardens --dry"));
  EXPECT_THAT(desk_({"points", "wardens"}).out,
              HasSubstr("its kind depends on what still reads of set 3. To see it: kestrum preview wardens"));
  const Ran dry = desk_({"repair", "wardens", "--dry", "--quiet"});
  EXPECT_THAT(dry.out,
              HasSubstr("Set 2: neither of its seals reads; they would be made anew from the rest of it"));
  EXPECT_FALSE(fs::exists(desk_.set_folder(2) + "/seal.json"));
  const Ran done = desk_({"repair", "wardens", "--quiet"});
  EXPECT_EQ(done.exit, 0) << done.out << done.err;
  EXPECT_THAT(done.out,
              HasSubstr("What was said by hand of such a point (keep, guard) is not known any more"));
  EXPECT_EQ(volumes(), good);
  EXPECT_TRUE(restores());
  EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
  const auto points = nlohmann::json::parse(desk_({"points", "wardens", "--json"}).out);
  EXPECT_EQ(points["destinations"][0]["next-run"]["sure"], true);
  EXPECT_EQ(points["points"][1]["totals"]["files"], 2);
  // Runs go on, and another passphrase opens it like the others.
  fs::rename(desk_.folder / "away", desk_.source());
  EXPECT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
  write_file(desk_.folder / "pass-2", "another tern\n");
  chmod((desk_.folder / "pass-2").c_str(), 0600);
  EXPECT_EQ(desk_({"passphrase", "change", "wardens", "--new", "file:" + (desk_.folder / "pass-2")}).exit, 0);
  EXPECT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
}

TEST_F(RepairVerb, WhatParityTakesIsSaidBefore) {
  Desk desk;
  ASSERT_EQ(desk.define({"--check-after-run", "nothing"}).exit, 0);
  write_file(desk.source() + "/sounds", noise(9, 4u << 20));
  ASSERT_EQ(desk({"run", "wardens", "--quiet"}).exit, 0);
  const auto full_bytes = [&] {
    return nlohmann::json::parse(desk({"forecast", "wardens", "--json"}).out)["sizes"]["full-bytes"]
        .get<double>();
  };
  const double without = full_bytes();
  EXPECT_THAT(desk({"preview", "wardens", "--kind", "full", "--quiet"}).out, Not(HasSubstr("parity")));
  ASSERT_EQ(desk({"job", "edit", "wardens", "--protect-parity", "10%"}).exit, 0);
  EXPECT_NEAR(full_bytes(), without * 1.1, without * 0.001);
  EXPECT_THAT(desk({"preview", "wardens", "--kind", "full", "--quiet"}).out,
              HasSubstr("are parity, which also takes up to a fifth more time."));
  // Once it is there, it is not counted twice.
  ASSERT_EQ(desk({"run", "wardens", "--kind", "full", "--quiet"}).exit, 0);
  EXPECT_NEAR(full_bytes(), without * 1.1, without * 0.03);
}

TEST_F(RepairVerb, BadInputIsToldClearly) {
  EXPECT_EQ(desk_({"repair"}).exit, 2);
  EXPECT_EQ(desk_({"repair", "nobody"}).exit, 2);
  ASSERT_EQ(desk_({"job", "edit", "wardens", "--protect-parity", "off"}).exit, 0);
  const Ran none = desk_({"repair", "wardens", "--add-parity"});
  EXPECT_EQ(none.exit, 2);
  EXPECT_THAT(none.err, HasSubstr("--protect-parity 5%"));
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--protect-parity", "51%"}).exit, 2);
  EXPECT_EQ(desk_({"job", "edit", "wardens", "--protect-parity", "much"}).exit, 2);
  fs::remove_all(desk_.drive());
  EXPECT_EQ(desk_({"repair", "wardens"}).exit, 5);
}

TEST_F(RepairVerb, KilledAtAnyMomentItCanBeBegunAgain) {
  const auto good = volumes();
  const unsigned wanted = extent("KESTRUM_REPAIR_KILLS", 8);
  std::mt19937 random(2028);
  RandomKills kills(2029, 400000);
  for (unsigned round = 0; kills.killed() < wanted && round < 3 * wanted; ++round) {
    fs::remove_all(desk_.drive());
    fs::copy(desk_.folder / "kept", desk_.drive(), fs::copy_options::recursive);
    for (int set = 1; set <= 3; ++set) zero(desk_.set_folder(set) + "/data-001.kvol", random() % 200, 10);
    zero(desk_.set_folder(2) + "/index.kidx", 0, fs::file_size(desk_.set_folder(2) + "/index.kidx") / 4096);
    kills.kill(desk_.program.start({"repair", "wardens", "--quiet"}));
    const Ran again = desk_({"repair", "wardens", "--quiet"});
    EXPECT_EQ(again.exit, 0) << again.out << again.err;
    EXPECT_EQ(volumes(), good) << round;
    EXPECT_TRUE(restores()) << round;
    if (HasFailure()) return;
  }
  EXPECT_EQ(kills.killed(), wanted);
  std::printf("%u repairs killed\n", kills.killed());
}

}  // namespace
}  // namespace kestrum::test
