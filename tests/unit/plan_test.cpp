// Which kind comes next, and why: a table.
#include <gtest/gtest.h>

#include "base/error.hpp"
#include "calendar/local_time.hpp"
#include "plan/chain_plan.hpp"
#include "plan/plan_words.hpp"

namespace kestrum::test {
namespace {

// "F1 I2 D3 F4": kind and sequence; a '!' behind: its catalog does not read; a '?': nothing of it reads.
std::vector<ChainSet> sets_of(const std::string& text) {
  std::vector<ChainSet> sets;
  Id chain{};
  std::size_t at = 0;
  while (at < text.size()) {
    ChainSet set;
    char kind = text[at++];
    set.facts.kind = kind == 'F' ? Kind::full : kind == 'I' ? Kind::incremental : Kind::differential;
    set.facts.sequence = static_cast<Sequence>(std::stoul(text.substr(at), nullptr));
    at = text.find_first_not_of("0123456789", at);
    if (set.facts.kind == Kind::full) chain[0] = static_cast<std::uint8_t>(set.facts.sequence);
    set.facts.chain = chain;
    set.facts.set[0] = static_cast<std::uint8_t>(set.facts.sequence);
    while (at < text.size() && text[at] != ' ') {
      if (text[at] == '!') set.catalog_reads = false;
      if (text[at] == '?') set.wholly_absent = true;
      ++at;
    }
    if (at != std::string::npos && at < text.size()) ++at;
    // Needs as the plan itself would have chosen them.
    const ChainSet* base = nullptr;
    for (const ChainSet& other : sets) {
      if (other.facts.chain == chain &&
          (set.facts.kind == Kind::incremental || other.facts.kind == Kind::full))
        base = &other;
    }
    if (set.facts.kind != Kind::full && base != nullptr) {
      set.facts.base = base->facts.sequence;
      set.facts.needs = {{base->facts.sequence, base->facts.set}};
      if (set.facts.kind == Kind::incremental)
        set.facts.needs.insert(set.facts.needs.end(), base->facts.needs.begin(), base->facts.needs.end());
    }
    sets.push_back(set);
    if (at == std::string::npos) break;
  }
  return sets;
}

struct PlanCase {
  const char* sets;
  Kind job;
  int renew;           // 0: never
  const char* wanted;  // "" none
  ProtectionChange protection;
  const char* expected;  // "full", "incremental on 3 needs 3 2 1"
  const char* reason;    // a part of it
};

class Plan : public testing::TestWithParam<PlanCase> {};

TEST_P(Plan, Decides) {
  const PlanCase& one = GetParam();
  ChainRules rules{one.job, {}};
  if (one.renew != 0) rules.renew.every_sets = one.renew;
  std::vector<ChainSet> sets = sets_of(one.sets);
  KindDecision decision = decide_kind(rules, sets, one.protection, parse_kind(one.wanted), {});
  std::string text(kind_name(decision.kind));
  if (decision.base) {
    text += " on " + std::to_string(*decision.base) + " needs";
    for (Sequence sequence : new_needs(decision, sets).all) text += " " + std::to_string(sequence);
  }
  EXPECT_EQ(text, one.expected) << one.sets;
  std::string reason = kind_reason_text(decision);
  EXPECT_NE(reason.find(one.reason), std::string::npos) << reason;
  EXPECT_EQ(decision.chain.has_value(), decision.kind != Kind::full);
}

constexpr ProtectionChange unchanged = ProtectionChange::none;
constexpr Kind full = Kind::full;
constexpr Kind inc = Kind::incremental;
constexpr Kind diff = Kind::differential;
INSTANTIATE_TEST_SUITE_P(
    Table, Plan,
    testing::Values(
        PlanCase{"", inc, 30, "", unchanged, "full", "first set"},
        PlanCase{"", diff, 30, "differential", unchanged, "full", "first set"},
        PlanCase{"F1", full, 30, "", unchanged, "full", "full sets only"},
        PlanCase{"F1", inc, 30, "full", unchanged, "full", "asked for"},
        PlanCase{"F1", inc, 30, "", unchanged, "incremental on 1 needs 1", "compared with set 1"},
        PlanCase{"F1 I2 I3", inc, 30, "", unchanged, "incremental on 3 needs 3 2 1", ""},
        PlanCase{"F1 I2 I3", diff, 30, "", unchanged, "differential on 1 needs 1", ""},
        PlanCase{"F1 I2 I3", inc, 30, "differential", unchanged, "differential on 1 needs 1", "asked for"},
        PlanCase{"F1 D2", inc, 30, "", unchanged, "incremental on 2 needs 2 1", ""},
        PlanCase{"F1 I2 F3 I4", inc, 30, "", unchanged, "incremental on 4 needs 4 3", ""},
        PlanCase{"F1 I2", inc, 2, "", unchanged, "full", "due every 2 sets"},
        PlanCase{"F1 I2", inc, 2, "incremental", unchanged, "incremental on 2 needs 2 1", ""},
        PlanCase{"F1 I2", inc, 0, "", unchanged, "incremental on 2 needs 2 1", ""},
        PlanCase{"F1 I2", inc, 30, "", ProtectionChange::turned_on, "full", "encryption was turned on"},
        PlanCase{"F1 I2 I3!", inc, 30, "", unchanged, "incremental on 2 needs 2 1", "set 2"},
        PlanCase{"F1! I2! I3!", inc, 30, "", unchanged, "full", "still reads whole"},
        PlanCase{"F1!", diff, 30, "", unchanged, "full", "does not read whole"},
        PlanCase{"F1 I2? I3", inc, 30, "", unchanged, "incremental on 3 needs 3 1", ""}));

// A full on Sunday, 28 February 2027, 20:30; sets of 10 bytes on a full of 100.
TEST(Renewal, RenewsTheFullByEachRule) {
  std::vector<ChainSet> sets = sets_of("F1 I2 I3");
  for (ChainSet& set : sets) {
    set.facts.started = from_local_earliest({2027, 2, 28, 20, 30, 0});
    set.facts.totals.stored_bytes = set.facts.kind == Kind::full ? 100 : 10;
  }
  struct Case {
    const char* rule;
    LocalMinute now;
    bool due;
  };
  const LocalMinute same{2027, 2, 28, 23, 0, 0}, monday{2027, 3, 1, 0, 30, 0}, earlier{2027, 1, 1, 0, 0, 0};
  for (const Case& one :
       {Case{"every 3 sets", same, true}, Case{"every 4 sets", same, false},
        Case{"every 2 days", same, false}, Case{"every 2 days", {2027, 3, 2, 20, 29, 0}, false},
        Case{"every 2 days", {2027, 3, 2, 20, 30, 0}, true}, Case{"first run of a month", same, false},
        Case{"first run of a month", monday, true}, Case{"first run of a week", same, false},
        Case{"first run of a week", monday, true}, Case{"first run of a week", {2027, 3, 7, 20, 30, 0}, true},
        Case{"a restore needs 4 sets", same, false}, Case{"a restore needs 3 sets", same, true},
        Case{"outgrown 1 time", same, false},
        // A clock that is wrong renews nothing.
        Case{"every 2 days", earlier, false}, Case{"first run of a month", earlier, false},
        Case{"never", {2040, 1, 1, 0, 0, 0}, false}}) {
    ChainRules rules{inc, parse_renew({one.rule})};
    KindDecision decision = decide_kind(rules, sets, unchanged, std::nullopt, from_local_earliest(one.now));
    EXPECT_EQ(decision.kind == Kind::full, one.due) << one.rule << ": " << kind_reason_text(decision);
  }
  sets[1].facts.totals.stored_bytes = 95;
  EXPECT_EQ(decide_kind({inc, parse_renew({"outgrown 1 time"})}, sets, unchanged, std::nullopt, {}).kind,
            Kind::full);
  EXPECT_NE(decide_kind({inc, parse_renew({"outgrown 2 times"})}, sets, unchanged, std::nullopt, {}).kind,
            Kind::full);
  // A person's wish stands above the rules.
  EXPECT_EQ(decide_kind({inc, parse_renew({"every 3 sets"})}, sets, unchanged, inc, {}).kind, inc);
}

TEST(Renewal, RulesOfRenewalAreSaidBack) {
  std::vector<std::string> all{"every 30 sets",        "every 30 days",           "first run of a week",
                               "first run of a month", "a restore needs 20 sets", "outgrown 2 times"};
  EXPECT_EQ(parse_renew(all).texts(), all);
  EXPECT_TRUE(parse_renew({"never"}).never());
  for (const char* bad : {"", "30 sets", "every", "every sets", "every 0 sets", "every 30", "every -1 sets",
                          "outgrown", "first run of a year", "a restore needs sets"})
    EXPECT_THROW(parse_renew({bad}), Error) << bad;
  EXPECT_THROW(parse_renew({"never", "every 30 sets"}), Error);
}

TEST(FoldedChains, AFoldedSetStandsForWhatItCovers) {
  std::vector<ChainSet> sets = sets_of("F1 I2 I3 I4");
  sets.erase(sets.begin(), sets.begin() + 2);
  sets[0].facts.folded_from = 1;
  sets[0].facts.needs.clear();
  sets[0].facts.kind = Kind::full;
  sets[0].facts.set[5] = 9;
  KindDecision decision = decide_kind({Kind::incremental, {}}, sets, unchanged, std::nullopt, {});
  NewNeeds needs = new_needs(decision, sets);
  EXPECT_EQ(needs.all, (std::vector<Sequence>{4, 3})) << "once, though 1, 2 and 3 are meant";
  ASSERT_EQ(needs.direct.size(), 1u);
  EXPECT_EQ(needs.direct[0].set, sets[1].facts.set);
  // A restore from the next would need three sets, not five.
  RenewRules rules;
  rules.restore_needs = 3;
  EXPECT_EQ(decide_kind({Kind::incremental, rules}, sets, unchanged, std::nullopt, {}).kind,
            Kind::incremental);
  rules.restore_needs = 2;
  EXPECT_EQ(decide_kind({Kind::incremental, rules}, sets, unchanged, std::nullopt, {}).kind, Kind::full);
}

TEST(FoldedChains, DamageEndsOnlyAnEndlessChain) {
  std::vector<ChainSet> sets = sets_of("F1 I2 I3");
  sets[1].damaged = true;
  RenewRules renewing;
  renewing.every_sets = 30;
  EXPECT_EQ(decide_kind({Kind::incremental, renewing}, sets, unchanged, std::nullopt, {}).kind,
            Kind::incremental);
  KindDecision decision = decide_kind({Kind::incremental, {}}, sets, unchanged, std::nullopt, {});
  EXPECT_EQ(decision.kind, Kind::full);
  EXPECT_EQ(decision.reason.why, KindReason::Why::damaged_chain);
  EXPECT_EQ(decide_kind({Kind::incremental, {}}, sets, unchanged, Kind::incremental, {}).kind,
            Kind::incremental);
}

TEST(Renewal, SetsThatWereMadeCountNotThoseThatAreLeft) {
  ChainRules rules;
  rules.renew.every_sets = 5;
  // Points 2 to 4 were folded away: five were made all the same.
  std::vector<ChainSet> sets = sets_of("F1 I5");
  sets[1].facts.folded_from = 2;
  KindDecision decision = decide_kind(rules, sets, ProtectionChange::none, {}, {});
  EXPECT_EQ(decision.kind, Kind::full);
  EXPECT_EQ(kind_reason_text(decision), "the chain has had 5 sets, and a full is due every 5 sets");
  sets = sets_of("F1 I4");
  EXPECT_EQ(decide_kind(rules, sets, ProtectionChange::none, {}, {}).kind, Kind::incremental);
}

TEST(Renewal, WhereNoFullFitsTheChainGoesOn) {
  ChainRules rules;
  rules.full_fits = false;
  rules.renew.every_sets = 2;
  KindDecision decision = decide_kind(rules, sets_of("F1 I2"), ProtectionChange::none, {}, {});
  EXPECT_EQ(decision.kind, Kind::incremental);
  EXPECT_EQ(decision.base, 2u);
  EXPECT_NE(kind_reason_text(decision).find("no room"), std::string::npos);
  rules.kind = Kind::full;
  EXPECT_EQ(decide_kind(rules, sets_of("F1 F2"), ProtectionChange::none, {}, {}).kind, Kind::incremental);
  EXPECT_EQ(decide_kind(rules, {}, ProtectionChange::none, {}, {}).kind, Kind::full)
      << "there is no other way";
  rules.kind = Kind::differential;
  EXPECT_EQ(decide_kind(rules, sets_of("F1 D2"), ProtectionChange::none, {}, {}).kind, Kind::differential);
}

TEST(KindsByTime, TheFirstRunAtOrAfterAMomentMakesItsKind) {
  const ChainRules rules{Kind::incremental, {}};
  const std::vector<Phrase> times{parse_phrase("daily at 12:30"), parse_phrase("sunday at 03:00 full")};
  std::vector<ChainSet> sets = sets_of("F1 I2");
  auto kind_at = [&](const char* made, const char* now) {
    sets.back().facts.started = *parse_utc(made);
    return decide_by_time(rules, sets, ProtectionChange::none, times, *parse_utc(now)).kind;
  };
  EXPECT_EQ(kind_at("2027-03-06T12:30:00Z", "2027-03-07T02:59:00Z"), Kind::incremental);
  EXPECT_EQ(kind_at("2027-03-06T12:30:00Z", "2027-03-07T03:00:00Z"), Kind::full);
  EXPECT_EQ(kind_at("2027-03-06T12:30:00Z", "2027-03-07T12:30:00Z"), Kind::full) << "it was missed";
  EXPECT_EQ(kind_at("2027-03-07T03:00:00Z", "2027-03-07T12:30:00Z"), Kind::incremental) << "it was made";
  EXPECT_EQ(kind_at("2020-01-01T00:00:00Z", "2027-03-07T12:30:00Z"), Kind::full) << "years ago";
}

}  // namespace
}  // namespace kestrum::test
