// What stands in the envelopes of seals (kept, given up, suspect, trusted): believed where the key proves it.
#include <gmock/gmock.h>

#include "engine/guard.hpp"
#include "engine/status.hpp"
#include "support/hostile_drive.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

class EnvelopeWords : public HostileDrive {
 protected:
  std::string folder_of(Sequence point) const {
    return bench_.set_folder(point).substr(bench_.drive().size() + 1);
  }
  // The seal with other words, written by somebody without the key; in one of its two copies, or in both.
  void forge_words(Sequence point, const std::function<void(SetFacts&)>& words, bool both = false) {
    Seal seal = seal_of(point);
    words(seal.core.facts);
    ++seal.generation;
    const Bytes forged = to_bytes(encode_seal(seal, SecretKey::random()));
    // Only the envelope: the core is the real one.
    const std::string real = read_file(bench_.set_folder(point) + "/" + seal_name);
    const std::string text(as_text(forged));
    const std::string mixed =
        real.substr(0, real.find("\"envelope\"")) + text.substr(text.find("\"envelope\""));
    const std::unique_ptr<Store> store = drive();
    store->put(folder_of(point) + "/" + seal_copy_name, as_bytes(reseal(mixed)));
    if (both) store->put(folder_of(point) + "/" + seal_name, as_bytes(reseal(mixed)));
  }
  // With plain digests that hold again: anybody can do that.
  static std::string reseal(const std::string& text) {
    const auto section = [&](const std::string& name, const std::string& end) {
      const std::size_t from = text.find("\"" + name + "\":") + name.size() + 3;
      return text.substr(from, text.find(end, from) - from);
    };
    return write_checked_json({{"core", section("core", ",\n\"core-check\"")},
                               {"envelope", section("envelope", ",\n\"envelope-check\"")}},
                              [](const std::string&, ByteView) { return Digest{}; });
  }
  SetFacts shown(Sequence point) const {
    for (const PointInfo& info : list_points(bench_.subject(), nullptr).points) {
      if (info.sealed && info.sequence == point) return info.facts;
    }
    ADD_FAILURE() << "point " << point << " is not shown";
    return {};
  }
};

TEST_F(EnvelopeWords, OneForgedCopyChangesNothing) {
  forge_words(1, [](SetFacts& facts) { facts.standing = {Standing::Is::kept, "forged", {}}; });
  EXPECT_EQ(shown(1).standing.is, Standing::Is::by_rules);
  EXPECT_TRUE(points_said("job", bench_.context()).empty());
  forge_words(2, [](SetFacts& facts) { facts.guard = GuardMark::suspect; });
  EXPECT_EQ(shown(2).guard, GuardMark::none);
  for (const JobTrouble& trouble : job_status({"job"}, bench_.context())[0].troubles)
    EXPECT_NE(trouble.kind, TroubleKind::suspect);
  EXPECT_EQ(look_at_guard("job", bench_.context())[0].points.size(), 0u);
}

TEST_F(EnvelopeWords, ASuspectPointIsNotTrustedByAForger) {
  const Seal real = seal_of(2);
  const SecretKey master = bench_.subject().keys().unlock(real.keys, real.core.facts.chain);
  const std::string marked = regard_seal(real, GuardMark::suspect, master);
  for (const char* name : {seal_name, seal_copy_name})
    drive()->put(folder_of(2) + "/" + name, as_bytes(marked));
  ASSERT_EQ(shown(2).guard, GuardMark::suspect);
  forge_words(2, [](SetFacts& facts) { facts.guard = GuardMark::trusted; });
  EXPECT_EQ(shown(2).guard, GuardMark::suspect);
  EXPECT_EQ(look_at_guard("job", bench_.context())[0].points.size(), 1u);
  // In both copies it is no set of the job's any more, and nothing is called proved by it.
  forge_words(
      2, [](SetFacts& facts) { facts.guard = GuardMark::trusted; }, true);
  const PointsResult result = list_points(bench_.subject(), nullptr);
  for (const PointInfo& info : result.points) EXPECT_NE(info.sequence, 2);
  EXPECT_THAT(result.findings, testing::Contains(HasSubstr("was not written with the key of its chain")));
}

// Where the key would have to be asked for, the words are shown, and as unproved.
TEST_F(EnvelopeWords, WithoutTheKeyTheyAreUnproved) {
  std::string text = bench_.home().load_job("job").text;
  const std::size_t at = text.find("passphrase = ");
  text.replace(at, text.find('\n', at) - at, "passphrase = \"ask\"");
  bench_.set_job(text);
  EXPECT_TRUE(list_points(bench_.subject(), nullptr).words_proved) << "nothing was said";
  forge_words(1, [](SetFacts& facts) { facts.standing = {Standing::Is::kept, "forged", {}}; });
  const PointsResult result = list_points(bench_.subject(), nullptr);
  EXPECT_FALSE(result.words_proved);
  EXPECT_TRUE(result.points.at(0).facts.standing.kept());
}

}  // namespace
}  // namespace kestrum::test
