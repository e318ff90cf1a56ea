// The guard: what stands out, what does not, and what becomes of a point that does.
#include "engine/guard.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstdlib>

#include "base/exit_codes.hpp"
#include "base/head_look.hpp"
#include "engine/repair.hpp"
#include "engine/status.hpp"
#include "support/desk_life.hpp"
#include "support/extent.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

TEST(Heads, AreToldApart) {
  std::mt19937 random(7);
  for (std::size_t size : {64u, 100u, 300u, 1000u, 2048u, 4096u, 100000u}) {
    std::string noise(size, '\0');
    for (char& c : noise) c = static_cast<char>(random());
    // One in some thousand may begin as a format does.
    EXPECT_EQ(look_at_head(as_bytes(noise)), HeadLook::noise) << size;
    std::string half = noise;
    for (std::size_t i = 0; i < half.size(); i += 2) half[i] = static_cast<char>(i % 5);
    EXPECT_EQ(look_at_head(as_bytes(half)), HeadLook::plain) << size;
    EXPECT_EQ(look_at_head(as_bytes(std::string(size, 'a'))), HeadLook::text) << size;
    EXPECT_EQ(look_at_head(as_bytes("\xff\xd8\xff\xe0" + noise)), HeadLook::known) << size;
  }
  EXPECT_EQ(look_at_head(as_bytes("")), HeadLook::nothing);
  EXPECT_EQ(look_at_head(as_bytes(std::string("\x01\x02\x03", 3))), HeadLook::nothing);
}

struct WeighCase {
  const char* name;
  GuardCounts counts;
  std::vector<Evidence> expected;
};
class Weighing : public testing::TestWithParam<WeighCase> {};

TEST_P(Weighing, FindsWhatStandsOut) {
  SetTotals usual;
  usual.files = 1000;
  usual.changed_files = 20;
  usual.gone_files = 5;
  usual.new_bytes = 10u << 20;
  usual.stored_bytes = 4u << 20;
  std::vector<Evidence> found;
  for (const EvidenceLine& line : weigh_run(GetParam().counts, std::vector<SetTotals>(10, usual))) {
    found.push_back(line.what);
    EXPECT_FALSE(evidence_text(line).empty());
    EXPECT_EQ(parse_evidence(evidence_name(line.what)), line.what);
  }
  EXPECT_EQ(found, GetParam().expected);
}

INSTANTIATE_TEST_SUITE_P(
    Counts, Weighing,
    testing::Values(
        WeighCase{"an_ordinary_day", {.files_before = 1000, .changed = 25, .added = 10, .gone = 4}, {}},
        WeighCase{"an_import",
                  {.files_before = 1000,
                   .changed = 5,
                   .added = 5000,
                   .new_bytes = 100u << 20,
                   .stored_bytes = 100u << 20},
                  {}},
        WeighCase{
            "a_reorganised_folder", {.files_before = 1000, .added = 900, .gone = 900, .moved = 900}, {}},
        WeighCase{
            "vaults_saved_anew",
            {.files_before = 1000, .changed = 40, .heads = 40, .noise = 40, .sampled = 40, .heads_gone = 0},
            {}},
        WeighCase{
            "heads_gone",
            {.files_before = 1000, .changed = 50, .heads = 50, .noise = 50, .sampled = 50, .heads_gone = 45},
            {Evidence::heads_gone}},
        WeighCase{"a_few_heads_gone",
                  {.files_before = 1000, .changed = 4, .heads = 4, .noise = 4, .sampled = 4, .heads_gone = 4},
                  {}},
        WeighCase{"longer_names",
                  {.files_before = 1000,
                   .added = 50,
                   .gone = 50,
                   .renamed = 50,
                   .renamed_noise = 48,
                   .added_noise = 48,
                   .new_ending = ".fulmar",
                   .with_new_ending = 50},
                  {Evidence::renamed, Evidence::new_ending}},
        WeighCase{"other_names_altogether",
                  {.files_before = 1000, .added = 60, .gone = 60, .added_noise = 58},
                  {Evidence::replaced}},
        WeighCase{
            "behind_size_and_time", {.files_before = 1000, .changed = 30, .silent = 28}, {Evidence::silent}},
        WeighCase{"much_is_gone", {.files_before = 1000, .gone = 400, .moved = 10}, {Evidence::gone}},
        WeighCase{"much_is_changed", {.files_before = 1000, .changed = 600}, {Evidence::changed}},
        WeighCase{"it_does_not_shrink",
                  {.files_before = 1000,
                   .changed = 200,
                   .heads = 200,
                   .noise = 20,
                   .new_bytes = 50u << 20,
                   .stored_bytes = 50u << 20},
                  {Evidence::incompressible}},
        WeighCase{"bait", {.files_before = 1000, .changed = 1, .bait = 1}, {Evidence::bait}}),
    [](const auto& one) { return one.param.name; });

// A desk and its job, day by day.
class GuardedDesk {
 public:
  explicit GuardedDesk(unsigned seed, const std::string& how = "") {
    bench_.set_job(bench_.home().load_job("job").text + how +
                   "[protect]\nencryption = \"none\"\n[check]\nafter-run = \"nothing\"\n[keep]\npoints = \"8 "
                   "points\"\n");
    bench_.settle_files();
    bench_.clock = &time_;
    life_.emplace(bench_.source(), seed);
  }
  // The evidence of that day's run in words; empty when it is an ordinary one.
  std::string run() {
    time_.seconds += 86400;
    const RunOutcome outcome = bench_.run();
    if (outcome.entry.result == RunResult::suspect) {
      EXPECT_EQ(outcome.entry.exit_code, 10);
      EXPECT_TRUE(outcome.entry.sequence);
      return outcome.entry.message;
    }
    EXPECT_EQ(outcome.entry.result, RunResult::done) << outcome.entry.message;
    return {};
  }
  DeskLife& life() { return *life_; }
  Workbench& bench() { return bench_; }

 private:
  struct Time final : Clock {
    Instant now() const override { return {seconds, 0}; }
    std::int64_t seconds = 1800000000;
  };
  Time time_;
  Workbench bench_{""};
  std::optional<DeskLife> life_;
};

std::pair<unsigned, unsigned> seeds() {
  const char* const wanted = std::getenv("KESTRUM_GUARD_SEEDS");
  unsigned first = 101, last = 102;
  if (wanted != nullptr) std::sscanf(wanted, "%u-%u", &first, &last);
  return {first, last};
}

unsigned days() {
  return extent("KESTRUM_GUARD_DAYS", 40);
}

// Ordinary days are quiet; then somebody takes one file in twenty, in each of three ways, on days of each
// kind.
TEST(GuardYears, QuietUntilSomebodyEncrypts) {
  const auto [first, last] = seeds();
  unsigned quiet = 0, alarms = 0, caught = 0, missed = 0;
  std::map<std::string, unsigned> reasons;
  for (unsigned seed = first; seed <= last; ++seed) {
    static const char* const hows[] = {"[how]\nrenew = \"every 20 sets\"\n",
                                       "[how]\nkind = \"differential\"\nrenew = \"every 15 sets\"\n",
                                       "[how]\nrenew = \"never\"\n", "[how]\nkind = \"full\"\n"};
    for (DeskLife::Thief thief :
         {DeskLife::Thief::keeps_names, DeskLife::Thief::keeps_sizes_and_times, DeskLife::Thief::renames}) {
      // The year once, and a month before each of the other thieves.
      const unsigned before = thief == DeskLife::Thief::keeps_names ? days() : std::min(days(), 30u);
      GuardedDesk desk(seed * 10 + static_cast<unsigned>(thief), hows[seed % std::size(hows)]);
      desk.run();
      for (unsigned day = 0; day < before; ++day) {
        const std::string what = desk.life().day();
        const std::string said = desk.run();
        ++quiet;
        if (said.empty()) continue;
        ++alarms;
        std::printf("seed %u day %u (%s): %s\n", seed, day, what.c_str(), said.c_str());
        pass_verdict("job", std::to_string(desk.bench().points().back()), true, desk.bench().context());
      }
      desk.life().day();
      const std::size_t taken = desk.life().encrypt(thief, 0.05);
      const std::string said = desk.run();
      ++(said.empty() ? missed : caught);
      if (said.empty())
        std::printf("seed %u: %zu of %zu files taken by thief %d, and nothing was said\n", seed, taken,
                    desk.life().files(), static_cast<int>(thief));
    }
  }
  std::printf(
      "seeds %u to %u: %u ordinary days, %u false alarms; %u of %u encryptors caught on their first day\n",
      first, last, quiet, alarms, caught, caught + missed);
  EXPECT_EQ(alarms, 0u);
  EXPECT_EQ(missed, 0u);
}

class Guarded : public testing::Test {
 protected:
  Guarded() {
    for (int i = 0; i < 4; ++i) {
      desk_.life().day();
      EXPECT_EQ(desk_.run(), "");
    }
    good_ = desk_.bench().points().back();
    snapshot_ = take_snapshot(desk_.bench().source());
  }
  std::string encrypted_day(double share = 0.1) {
    desk_.life().encrypt(DeskLife::Thief::keeps_names, share);
    return desk_.run();
  }
  std::optional<Sequence> base_of(Sequence point) {
    for (const FoundSet& set : desk_.bench().subject().sets()) {
      if (set.sealed() && set.folder.sequence == point) return set.facts().base;
    }
    return std::nullopt;
  }
  GuardedDesk desk_{3};
  Sequence good_ = 0;
  Snapshot snapshot_;
};

TEST_F(Guarded, NothingBuildsOnItAndNothingGoes) {
  EXPECT_THAT(encrypted_day(), HasSubstr("do not begin as they did"));
  desk_.bench().set_keep("points = \"1 points\"\nat-least = \"1 points\"");
  const std::size_t points = desk_.bench().points().size();
  for (int day = 0; day < 3; ++day) {
    EXPECT_NE(encrypted_day(0.05), "");
    EXPECT_EQ(base_of(desk_.bench().points().back()), good_);
  }
  EXPECT_EQ(desk_.bench().points().size(), points + 3);
  // The tightest rules, by hand too.
  const std::vector<PruneOutcome> pruned = prune_job("job", false, desk_.bench().context());
  EXPECT_EQ(pruned.at(0).plan.held, Hold::suspect_point);
  EXPECT_EQ(desk_.bench().points().size(), points + 3);
  EXPECT_THROW(desk_.bench().fold(), Error);
  EXPECT_EQ(compare_snapshots(snapshot_, desk_.bench().restored(good_)), "");
  // Whoever asks for the latest gets what nobody doubts.
  EXPECT_EQ(choose_point(desk_.bench().subject().sets(), {}).folder.sequence, good_);
  EXPECT_TRUE(desk_.bench().verified().good());
  const std::vector<JobStatus> status = job_status({"job"}, desk_.bench().context());
  ASSERT_FALSE(status.at(0).troubles.empty());
  EXPECT_EQ(status[0].troubles[0].kind, TroubleKind::suspect);
  EXPECT_EQ(status[0].troubles[0].count, 4u);
}

TEST_F(Guarded, RejectedPointsAreEvidenceAndTheNextRunBuildsOnTheGoodOne) {
  encrypted_day();
  encrypted_day();
  const std::vector<Sequence> points = desk_.bench().points();
  const Sequence first = points[points.size() - 2], second = points.back();
  const std::vector<GuardLook> looks = look_at_guard("job", desk_.bench().context());
  ASSERT_EQ(looks.at(0).points.size(), 2u);
  EXPECT_FALSE(looks[0].points[0].evidence.empty());
  EXPECT_FALSE(looks[0].points[0].examples.empty());
  EXPECT_EQ(looks[0].newest_trusted->sequence, good_);
  const GuardVerdict verdict = pass_verdict("job", std::to_string(first), false, desk_.bench().context());
  EXPECT_EQ(verdict.points, (std::vector{first, second}));
  EXPECT_EQ(verdict.suspect_left, 0u);
  // Everything is brought back; then the job goes on, and its rules too.
  std::filesystem::remove_all(desk_.bench().source());
  desk_.bench().restore_to(desk_.bench().path("back"), good_);
  std::filesystem::rename(desk_.bench().path("back") + "/source", desk_.bench().source());
  desk_.bench().set_keep("points = \"1 points\"\nat-least = \"1 points\"");
  const RunOutcome next = desk_.bench().run();
  ASSERT_EQ(next.entry.result, RunResult::done) << next.entry.message;
  EXPECT_EQ(base_of(*next.entry.sequence), good_);
  const std::vector<Sequence> left = desk_.bench().points();
  EXPECT_THAT(left, testing::IsSupersetOf({first, second, *next.entry.sequence}));
  // A person lets the evidence go.
  EXPECT_TRUE(drop_point("job", std::to_string(second), "", desk_.bench().context()).gone);
}

TEST_F(Guarded, TrustedPointsCountAgain) {
  encrypted_day();
  encrypted_day(0.05);
  const std::vector<Sequence> points = desk_.bench().points();
  EXPECT_EQ(pass_verdict("job", std::to_string(points.back()), true, desk_.bench().context()).points.size(),
            2u);
  desk_.life().day();
  EXPECT_EQ(desk_.run(), "");
  EXPECT_EQ(base_of(desk_.bench().points().back()), points.back());
  EXPECT_THROW(pass_verdict("job", std::to_string(good_), false, desk_.bench().context()), Error);
}

TEST_F(Guarded, AFullDriveIsSaid) {
  encrypted_day();
  desk_.bench().set_keep("points = \"1 points\"\njob-limit = \"64 KiB\"");
  const RunOutcome full = desk_.bench().run();
  EXPECT_FALSE(full.entry.sequence);
  EXPECT_EQ(full.entry.exit_code, 9) << full.entry.message;
  ASSERT_TRUE(full.error);
  EXPECT_THAT(full.error->hint(), HasSubstr("kestrum guard job"));
  EXPECT_EQ(compare_snapshots(snapshot_, desk_.bench().restored(good_)), "");
}

// What people encrypt themselves looked like noise before.
TEST_F(Guarded, VaultsThatAreSavedAnewAreNoEvidence) {
  for (int day = 0; day < 2; ++day) {
    for (unsigned i = 0; i < 20; ++i)
      write_file(desk_.bench().source() + "/vault-" + std::to_string(i),
                 noise(100 * i + static_cast<unsigned>(day), 2000));
    EXPECT_EQ(desk_.run(), "") << day;
  }
}

TEST_F(Guarded, OtherNamesAltogetherAreNoticed) {
  const std::string folder = desk_.bench().source() + "/kept";
  for (unsigned i = 0; i < 30; ++i)
    write_file(folder + "/" + std::to_string(i) + ".csv", std::string(500, 'a'));
  EXPECT_EQ(desk_.run(), "");
  for (unsigned i = 0; i < 20; ++i) {
    std::filesystem::remove(folder + "/" + std::to_string(i) + ".csv");
    write_file(folder + "/" + to_hex(as_bytes(noise(i, 6))), noise(i, 600));
  }
  EXPECT_THAT(desk_.run(), HasSubstr("20 files are gone, and as many new ones look encrypted"));
}

// More of what the job has anyway, on a day on which others go.
TEST_F(Guarded, AnImportOfVaultsWhileOthersAreClearedOutIsNone) {
  const std::string folder = desk_.bench().source() + "/kept";
  for (unsigned i = 0; i < 30; ++i)
    write_file(folder + "/" + std::to_string(i) + ".csv", std::string(500, 'a'));
  write_file(folder + "/one.vault", noise(1, 600));
  EXPECT_EQ(desk_.run(), "");
  for (unsigned i = 0; i < 20; ++i) {
    std::filesystem::remove(folder + "/" + std::to_string(i) + ".csv");
    write_file(folder + "/" + std::to_string(i) + ".vault", noise(i, 600));
  }
  for (unsigned i = 0; i < 20; ++i)
    std::filesystem::rename(folder + "/" + std::to_string(i) + ".vault",
                            folder + "/new-" + std::to_string(i) + ".vault");
  EXPECT_EQ(desk_.run(), "");
}

TEST_F(Guarded, ButNotWhereTheJobSaysNo) {
  Workbench& bench = desk_.bench();
  std::string text = bench.home().load_job("job").text;
  text.replace(text.find("[protect]\n"), 10, "[protect]\nguard = \"no\"\n");
  bench.set_job(text);
  EXPECT_EQ(encrypted_day(), "");
}

TEST_F(Guarded, BaitIsSetOutAndItsLossTold) {
  Workbench& bench = desk_.bench();
  const std::string bait = bench.source() + "/0-accounts.csv";
  std::string text = bench.home().load_job("job").text;
  text.replace(text.find("[protect]\n"), 10, "[protect]\nbait = [\"" + bait + "\"]\n");
  bench.set_job(text);
  EXPECT_EQ(desk_.run(), "");
  ASSERT_TRUE(std::filesystem::exists(bait));
  EXPECT_EQ(desk_.run(), "");
  write_file(bait, "something else");
  EXPECT_THAT(desk_.run(), HasSubstr("1 bait file was changed or removed"));
  pass_verdict("job", std::to_string(bench.points().back()), false, bench.context());
  std::filesystem::remove(bait);
  EXPECT_THAT(desk_.run(), HasSubstr("bait file"));
  EXPECT_FALSE(std::filesystem::exists(bait)) << "that it is gone is evidence";
  pass_verdict("job", std::to_string(bench.points().back()), true, bench.context());
  EXPECT_EQ(desk_.run(), "");
  EXPECT_TRUE(std::filesystem::exists(bait));
}

// Its seals are lost, and made anew from the rest of it.
TEST_F(Guarded, ADoubtOutlivesTheSeal) {
  EXPECT_NE(encrypted_day(), "");
  Workbench& bench = desk_.bench();
  const Sequence doubted = bench.points().back();
  for (const char* name : {"/seal.json", "/seal-copy.json"})
    std::filesystem::remove(bench.set_folder(doubted) + name);
  const RepairResult result = repair_job("job", {}, bench.context()).at(0);
  EXPECT_EQ(result.sealed_anew, std::vector<Sequence>{doubted});
  EXPECT_EQ(bench.subject().sets().sealed(doubted)->facts().guard, GuardMark::suspect);
  EXPECT_EQ(prune_job("job", false, bench.context()).at(0).plan.held, Hold::suspect_point);
}

// A seal of a newer version with a word that this one does not know.
TEST_F(Guarded, AnUnknownWordIsADoubt) {
  const SetList sets = desk_.bench().subject().sets();
  const FoundSet& set = *sets.newest();
  std::string envelope(set.seal->checked.text(1));
  envelope.replace(envelope.find("\"guard\":\"none\""), 14, "\"guard\":\"hmm\"");
  const Seal seal = decode_seal(
      to_bytes(write_checked_json({{"core", std::string(set.seal->checked.text(0))}, {"envelope", envelope}},
                                  [](const std::string&, ByteView) { return Digest{}; })),
      "it");
  EXPECT_EQ(seal.core.facts.guard, GuardMark::suspect);
}

}  // namespace
}  // namespace kestrum::test
