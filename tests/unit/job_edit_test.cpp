// Changing a job file by place: whatever is not about the key stays as somebody wrote it.
#include "job/job_edit.hpp"

#include <gtest/gtest.h>

#include <random>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/job_file.hpp"

namespace kestrum::test {
namespace {

// Written by hand, in an order and a manner of its own.
const char* const by_hand = R"(# Wardens' desktops, Skerry Point – keep the comments é
[where]   # the grey box
destinations = [ "/media/tern-1" ]  # until June

# what they asked for
[what]
folders = [
  "/srv/ringing",     # lists since 1971
  "/srv/sightings"    # the database, see below
]
  skip = ["*.part", "scratch/"] # drafts

[how]
	compression='small'   # slow machine
kind = "incremental"
[keep]
# nothing yet
[protect]
encryption = "none")";

std::vector<std::string> comments(const std::string& text) {
  std::vector<std::string> out;
  for (const std::string& line : split(text, '\n')) {
    std::size_t at = line.find('#');
    if (at != std::string::npos) out.push_back(line.substr(at));
  }
  return out;
}

std::string edited(const std::string& text, const std::string& table, const std::string& key,
                   std::optional<std::vector<std::string>> values) {
  const JobKey* found = find_job_key(table, key);
  EXPECT_NE(found, nullptr) << key;
  return edit_job_text("wardens", "wardens.toml", text, {{found, std::move(values)}});
}

// Two different values that each key takes.
std::vector<std::vector<std::string>> values_for(const std::string& option) {
  static const std::map<std::string, std::vector<std::vector<std::string>>> all{
      {"what-people", {{"me"}, {"everybody"}}},
      {"what-categories", {{"mail"}, {"mail", "pictures"}}},
      {"what-folders", {{"/srv/sightings", "/srv/moths"}, {"/srv/x"}}},
      {"what-description", {{"the lists"}, {"the lists of the wardens"}}},
      {"what-skip", {{"*.part", "!keep.part"}, {"a\"b\\"}}},
      {"what-usual-list", {{"save"}, {"leave out"}}},
      {"what-hidden", {{"leave out"}, {"save"}}},
      {"what-mounted-below", {{"leave out"}, {"save"}}},
      {"what-cache-tags", {{"save"}, {"leave out"}}},
      {"what-skip-larger", {{"4 GiB"}, {"5 MiB"}}},
      {"what-skip-smaller", {{"4 KiB"}, {"5 B"}}},
      {"what-skip-older", {{"5 years"}, {"9 months"}}},
      {"what-skip-newer", {{"5 minutes"}, {"1 day"}}},
      {"where-destinations", {{"label:tern-2"}, {"/media/é"}}},
      {"where-use", {{"all connected"}, {"next when full"}}},
      {"where-program", {{"put there"}, {"leave out"}}},
      {"where-same-disk", {{"accept"}, {"refuse"}}},
      {"where-mount", {{"for each run"}, {"as it is"}}},
      {"where-attach", {{"mount /media/share"}, {"true"}}},
      {"where-detach", {{"umount /media/share"}, {"true"}}},
      {"when-runs", {{"weekdays at 12:30"}, {"daily at 20:30", "first sunday at 03:00 full"}}},
      {"when-if-missed", {{"skip"}, {"catch up"}}},
      {"when-only-between", {{"22:00 to 06:00"}, {"weekdays 18:00 to 07:30", "weekends 00:00 to 24:00"}}},
      {"when-not-on", {{"2027-12-24"}, {"12-24 to 01-02"}}},
      {"when-warn-after", {{"2 days"}, {"1 week"}}},
      {"when-settle", {{"2 minutes"}, {"5 minutes"}}},
      {"when-least-interval", {{"1 hour"}, {"20 minutes"}}},
      {"when-enabled", {{"no"}, {"yes"}}},
      {"how-kind", {{"full"}, {"differential"}}},
      {"how-renew", {{"never"}, {"every 9 sets"}}},
      {"how-compression", {{"fast"}, {"9"}}},
      {"how-effort", {{"low"}, {"all"}}},
      {"how-volume-size", {{"650 MiB"}, {"2 GiB"}}},
      {"protect-encryption", {{"aes-256-gcm"}, {"none"}}},
      {"protect-passphrase", {{"file:/etc/kestrum/a.pass"}, {"ask"}}},
      {"protect-passphrase-memory", {{"256 MiB"}, {"1 GiB"}}},
      {"protect-recovery-key", {{"/etc/kestrum/office.pub"}, {"/x"}}},
      {"protect-guard", {{"no"}, {"yes"}}},
      {"protect-parity", {{"5%"}, {"off"}}},
      {"protect-bait", {{"/home/isla/0-accounts.csv"}, {"/srv/a", "/srv/b"}}},
      {"keep-age", {{"30 days"}, {"1 year"}}},
      {"keep-chains", {{"3 chains"}, {"1 chain"}}},
      {"keep-points", {{"10 points"}, {"3 points"}}},
      {"keep-thin", {{"every point for 14 days"}, {"one a week for 2 months", "one a year for ever"}}},
      {"keep-job-limit", {{"200 GiB"}, {"1 TiB"}}},
      {"keep-drive-limit", {{"85%"}, {"9%"}}},
      {"keep-leave-free", {{"20 GiB"}, {"1 GiB"}}},
      {"keep-at-least", {{"3 points"}, {"1 point"}}},
      {"check-after-run", {{"nothing"}, {"read back all"}}},
      {"check-times", {{"saturday at 03:00"}, {"daily at 01:00", "first sunday at 05:00"}}},
      {"check-budget", {{"30 minutes"}, {"20 GiB"}}},
      {"check-drill", {{"monthly"}, {"first sunday at 05:00", "first wednesday at 05:00"}}},
      {"check-drill-with", {{"/srv/ringing/2026.csv"}, {"/srv/ringing/2026.csv", "/home/isla/moths"}}},
      {"around-before", {{"sqlite3 /srv/s.db '.backup /srv/s.copy'"}, {"true"}}},
      {"around-if-before-fails", {{"go on"}, {"give up"}}},
      {"around-after-failure", {{"logger \"failed\""}, {"true"}}},
      {"around-time-limit", {{"10 minutes"}, {"2 hours"}}},
      {"around-after", {{"logger \"done\""}, {"true"}}},
      {"tell-mail", {{"office@skerrypoint.example"}, {"a@b.example"}}},
      {"tell-detail", {{"everything"}, {"summary"}}},
      {"how-read-limit", {{"20 MiB/s"}, {"20 MiB/s", "5 MiB/s weekdays 08:00 to 18:00"}}},
      {"how-write-limit", {{"20 MiB/s"}, {"5 MiB/s 22:00 to 06:00"}}},
      {"when-hold-back", {{"on battery"}, {"on battery", "under load"}}},
      {"around-afterwards", {{"standby"}, {"switch off"}}},
      {"around-afterwards-if-failed", {{"yes"}, {"no"}}},
      {"tell-desktop", {{"problems"}, {"every run"}}},
      {"tell-page", {{"/srv/office/a.html"}, {"/srv/office/b.html"}}},
      {"tell-when", {{"every run"}, {"problems", "a digest a week"}}},
  };
  return all.at(option);
}

// A file that has a key of every table, besides the one that is changed, so that any key may be alone.
std::string base_for(const JobKey& key) {
  std::string text = by_hand;
  // A recovery key without encryption, people without categories, are no valid jobs.
  if (key.option() == "protect-recovery-key") text = edited(text, "protect", "encryption", {{"aes-256-gcm"}});
  if (key.option() == "where-mount") text = edited(text, "where", "destinations", {{"label:tern-1"}});
  if (key.option() == "what-people") text = edited(text, "what", "categories", {{"mail"}});
  return text;
}

TEST(JobEdit, EveryKeyChangesAndCommentsAndOrderStay) {
  for (const JobKey& key : job_keys()) {
    SCOPED_TRACE(key.option());
    std::string before = base_for(key);
    std::vector<std::string> notes = comments(before);
    std::string text = before;
    for (const std::vector<std::string>& values : values_for(key.option())) {
      text = edited(text, key.table, key.key, values);
      Job job = parse_job("wardens", "wardens.toml", text);
      EXPECT_EQ(job.given.at({key.table, key.key}), values);
      // Lines that say nothing of this key are there as they were, in their order.
      std::vector<std::string> after_lines = split(text, '\n');
      std::size_t at = 0;
      for (const std::string& line : split(before, '\n')) {
        bool about =
            line.find(key.key) != std::string::npos ||
            (key.option() == "what-folders" && (line == "]" || line.find("/srv/") != std::string::npos));
        if (about) continue;
        while (at < after_lines.size() && after_lines[at] != line) ++at;
        EXPECT_LT(at, after_lines.size()) << "lost: " << line << "\n" << text;
      }
      if (key.option() != "what-folders") {
        EXPECT_EQ(comments(text), notes) << text;
      }
      EXPECT_EQ(edit_meaning(parse_job("wardens", "w", before), job).size() > 0,
                parse_job("wardens", "w", before).given != job.given);
    }
    // And out again, where the job can be without it.
    bool needed = key.option() == "where-destinations" || key.option() == "what-folders";
    if (needed) continue;
    text = edited(text, key.table, key.key, std::nullopt);
    EXPECT_FALSE(parse_job("wardens", "w", text).given.contains({key.table, key.key}));
    EXPECT_EQ(comments(text), notes) << text;
    EXPECT_EQ(edited(text, key.table, key.key, std::nullopt), text);  // nothing to take out
  }
}

TEST(JobEdit, EveryKeyHasAMeaning) {
  for (const JobKey& key : job_keys()) {
    Job before, after;
    after.given[{key.table, key.key}] = {"x"};
    std::vector<std::string> said = edit_meaning(before, after);
    ASSERT_EQ(said.size(), 1u);
    EXPECT_GT(said[0].size(), key.option().size() + 20) << said[0];
  }
}

TEST(JobEdit, ItemsOfAListKeepTheirLinesAndComments) {
  std::string text =
      edited(by_hand, "what", "folders", {{"/srv/ringing", "/srv/sightings", "/srv/moths", "/home"}});
  EXPECT_NE(
      text.find(
          "  \"/srv/ringing\",     # lists since 1971\n  \"/srv/sightings\",    # the database, see below\n"
          "  \"/srv/moths\",\n  \"/home\",\n]\n"),
      std::string::npos)
      << text;
  text = edited(text, "what", "folders", {{"/srv/ringing", "/home"}});
  EXPECT_NE(text.find("folders = [\n  \"/srv/ringing\",     # lists since 1971\n  \"/home\",\n]\n"),
            std::string::npos)
      << text;
  text = edited(text, "what", "skip", {{"scratch/"}});
  EXPECT_NE(text.find("  skip = [\"scratch/\"] # drafts\n"), std::string::npos) << text;
  text = edited(text, "what", "skip", {{"scratch/", "*.tmp"}});
  EXPECT_NE(text.find("  skip = [\"scratch/\", \"*.tmp\"] # drafts\n"), std::string::npos) << text;
  text = edited(text, "what", "skip", {{"other"}});
  EXPECT_NE(text.find("  skip = [\"other\"] # drafts\n"), std::string::npos) << text;
}

TEST(JobEdit, AnyListBecomesAnyOther) {
  std::mt19937 random(7);
  const std::vector<std::string> styles{
      "[what]\nfolders = [\"/a\", \"/b\", \"/c\"]\n",
      "[what]\nfolders = [ # all\n  \"/a\", # a, b\n  \"/b\", \"/c\"\n  # end\n]\n",
      "[what]\nfolders = [\n\"/a\"\n,\n\"/b\"\n,\"/c\",\n]\n",
      "[what]\nfolders = [\"/a\",\n  \"/b\",\n  \"/c\"]\n",
      "[what]\nfolders = \"/a\"\n",
      "what = { folders = [\"/a\", \"/b\"] }\n",
      "what.folders = [\"/a\", '/b']\n",
      "[what]\r\nfolders = [\r\n  \"/a\",\r\n  \"/b\"\r\n]\r\n",
  };
  for (int round = 0; round < 2000; ++round) {
    std::string text = styles[random() % styles.size()];
    text = text.starts_with("what") ? text + "[where]\ndestinations = [\"/m\"]\n"
                                    : "[where]\ndestinations = [\"/m\"]\n" + text;
    for (int step = 0; step < 3; ++step) {
      std::vector<std::string> wanted;
      for (auto n = 1 + random() % 4; n > 0; --n)
        wanted.push_back(std::string("/") + static_cast<char>('a' + random() % 6));
      try {
        text = edited(text, "what", "folders", wanted);
      } catch (const Error& error) {
        FAIL() << error.what() << "\n" << text << "\n" << join(wanted, " ");
      }
      text = edited(text, "what", "skip", {{"*.part"}});
      if (random() % 2 == 0) text = edited(text, "what", "skip", std::nullopt);
    }
  }
}

TEST(JobEdit, WhatWouldBeNoJobIsRefusedAndNothingChanges) {
  EXPECT_THROW(edited(by_hand, "what", "folders", std::nullopt), Error);
  EXPECT_THROW(edited(by_hand, "keep", "age", {{"30"}}), Error);
  EXPECT_THROW(edited(by_hand, "around", "before", {{"a\nb"}}), Error);
  EXPECT_THROW(edited(by_hand, "what", "folders", {{"/srv/\xff"}}), Error);
  EXPECT_THROW(edited("[what\n", "keep", "age", {{"30 days"}}), Error);
}

}  // namespace
}  // namespace kestrum::test
