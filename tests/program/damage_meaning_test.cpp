// What a check says of damage is what bringing files back shows: each place with the files that need it, no
// more and no fewer, since when, and what is to be done.
#include <gmock/gmock.h>

#include <nlohmann/json.hpp>
#include <set>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class DamageMeaning : public testing::Test {
 protected:
  // Three points: many small files, and large ones that come to them.
  void SetUp() override {
    at("2027-03-01T18:00:00Z");
    ASSERT_EQ(
        desk_.define({"--check-after-run", "nothing", "--how-volume-size", "1 MiB", "--protect-guard", "no"})
            .exit,
        0);
    for (unsigned i = 0; i < 40; ++i)
      write_file(desk_.source() + "/list-" + std::to_string(i) + ".csv", noise(i, 20000));
    for (unsigned i = 0; i < 3; ++i) {
      at("2027-03-0" + std::to_string(i + 1) + "T18:00:00Z");
      write_file(desk_.source() + "/calls, \"north\" " + std::to_string(i) + ".wav",
                 noise(100 + i, 9u << 20));
      ASSERT_EQ(desk_({"run", "wardens", "--quiet"}).exit, 0);
    }
    at("2027-03-04T12:00:00Z");
    ASSERT_EQ(desk_({"verify", "wardens", "--quiet"}).exit, 0);
  }
  void at(const std::string& when) { desk_.program.environment["KESTRUM_NOW"] = when; }
  void spoil(int set, const std::string& file, std::size_t at) {
    const std::string path = desk_.set_folder(set) + "/" + file;
    std::string text = read_file(path);
    text[at] ^= 1;
    write_file(path, text);
  }
  json verified(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"verify", "wardens", "--json", "--quiet"};
    words.insert(words.end(), more.begin(), more.end());
    return json::parse(desk_(words).out);
  }
  // By trying: files of the point that do not come back.
  std::set<std::string> lost_at(int point) {
    const std::string to = desk_.folder / "out";
    std::set<std::string> lost;
    const json result = json::parse(desk_({"restore", "wardens", desk_.source(), "--at",
                                           std::to_string(point), "--to", to, "--json", "--quiet"})
                                        .out);
    if (!result.contains("problems")) return {"everything"};
    for (const json& problem : result["problems"]) lost.insert(problem["path"]);
    fs::remove_all(to);
    return lost;
  }
  Desk desk_;
};

TEST_F(DamageMeaning, IsWhatBringingBackShows) {
  spoil(1, "data-001.kvol", 300000);
  spoil(1, "data-003.kvol", 5000);
  spoil(2, "data-001.kvol", 700000);
  at("2027-03-05T12:00:00Z");
  const json found = verified();
  EXPECT_EQ(found["good"], false);
  const json& places = found["parts"][0]["places"];
  ASSERT_GE(places.size(), 3u) << places;
  std::map<std::string, std::set<std::size_t>> of_place;  // files, by point
  for (const json& point : found["points"]) {
    std::set<std::string> said;
    for (const json& file : point["affected"]) {
      said.insert(file["path"]);
      EXPECT_FALSE(file["places"].empty()) << file;
    }
    EXPECT_EQ(said, lost_at(point["point"])) << "point " << point["point"];
    EXPECT_EQ(point["affected-files"], said.size());
  }
  for (const json& place : places) {
    EXPECT_EQ(place["read-well"].get<std::string>().substr(0, 10), "2027-03-04") << place;
    EXPECT_EQ(place["found"], "2027-03-05T12:00:00Z") << place;
    EXPECT_GT(place["bytes"], 0u);
  }
  // The largest first; each counts every path once, whatever points it is lost at.
  std::set<std::string> all;
  for (std::size_t i = 0; i < places.size(); ++i) {
    std::set<std::string> files;
    for (const json& point : found["points"]) {
      for (const json& file : point["affected"]) {
        const auto numbers = file["places"].get<std::set<std::size_t>>();
        if (numbers.contains(i)) files.insert(file["path"]);
      }
    }
    EXPECT_EQ(places[i]["files"], files.size()) << places[i];
    if (i > 0) {
      EXPECT_GE(places[i - 1]["files"], places[i]["files"]);
    }
  }
}

TEST_F(DamageMeaning, IsKnownAfterwardsWithoutReadingAnything) {
  spoil(1, "data-003.kvol", 300000);
  at("2027-03-05T12:00:00Z");
  const json found = verified();
  at("2027-03-20T12:00:00Z");
  const json known = verified({"--known"});
  EXPECT_EQ(known["parts"][0]["places"], found["parts"][0]["places"]) << "since when, too";
  EXPECT_EQ(known["parts"][0]["bytes"], 0);
  EXPECT_EQ(known["known"], true);
  for (std::size_t i = 0; i < 3; ++i)
    EXPECT_EQ(known["points"][i]["affected"], found["points"][i]["affected"]);
  // A second check does not make it newer.
  EXPECT_EQ(verified()["parts"][0]["places"], found["parts"][0]["places"]);

  const Ran told = desk_({"verify", "wardens", "--known", "--quiet"});
  EXPECT_EQ(told.exit, 4);
  EXPECT_THAT(told.out, HasSubstr("read well last 2027-03-04 12:00"));
  EXPECT_THAT(told.out, HasSubstr("found bad 2027-03-05 12:00"));
  EXPECT_THAT(told.out, HasSubstr("All of them as a table: kestrum verify wardens --known --csv FILE"));
  EXPECT_THAT(told.out, HasSubstr("still in today's files"));
  EXPECT_THAT(told.out, HasSubstr("To mend it: kestrum repair wardens"));
  EXPECT_LT(std::count(told.out.begin(), told.out.end(), '\n'), 25) << "each of many files is told";

  // Mended from today's files, nothing is known of it any more.
  EXPECT_EQ(desk_({"repair", "wardens", "--quiet"}).exit, 0);
  EXPECT_EQ(desk_({"verify", "wardens", "--known", "--quiet"}).exit, 0);
  EXPECT_TRUE(verified({"--known"})["parts"][0]["places"].empty());
}

TEST_F(DamageMeaning, IsATableOfEveryFileAndEveryPoint) {
  spoil(1, "data-001.kvol", 300000);
  const json found = verified();
  const std::string table = desk_.folder / "damage.csv";
  const Ran ran = desk_({"verify", "wardens", "--known", "--csv", table, "--quiet"});
  EXPECT_EQ(ran.exit, 4);
  const std::string text = read_file(table);
  EXPECT_THAT(
      text, HasSubstr("destination,point,file,reason,bad file,from byte,bytes,read well last,found bad\r\n"));
  std::uint64_t lines = static_cast<std::uint64_t>(std::count(text.begin(), text.end(), '\n')), files = 0;
  for (const json& point : found["points"]) files += point["affected-files"].get<std::uint64_t>();
  EXPECT_GE(lines, files + 1);
  for (const json& point : found["points"]) {
    for (const json& file : point["affected"]) {
      std::string path = file["path"];
      for (std::size_t i = 0; (i = path.find('"', i)) != std::string::npos; i += 2) path.insert(i, "\"");
      EXPECT_THAT(text, HasSubstr(path));
    }
  }
  EXPECT_THAT(text, HasSubstr(",2027-03-04T12:00:00Z,2027-03-04T12:00:00Z\r\n")) << "since when";
  // Into a pipe it comes alone.
  EXPECT_EQ(desk_({"verify", "wardens", "--known", "--csv", "-", "--quiet"}).out, text);
  EXPECT_EQ(desk_({"verify", "wardens", "--known", "--depth", "quick"}).exit, 2);
  EXPECT_EQ(desk_({"verify", "wardens", "--known", "--budget", "1 MiB"}).exit, 2);
  EXPECT_EQ(desk_({"verify", "wardens", "--known", "--figure", "damage.jpg"}).exit, 2);
}

TEST_F(DamageMeaning, IsDrawn) {
  spoil(2, "data-001.kvol", 300000);
  const std::string figure = desk_.folder / "damage.svg";
  EXPECT_EQ(desk_({"verify", "wardens", "--figure", figure, "--quiet"}).exit, 4);
  const std::string drawn = read_file(figure);
  EXPECT_THAT(drawn, HasSubstr("point 2, incremental"));
  EXPECT_THAT(drawn, HasSubstr("does not read"));
  EXPECT_THAT(drawn, HasSubstr("192,   0,   0")) << "nothing is red";
}

// A lost index takes all that its set holds with it; a lost file is one place, however many frames it had.
TEST_F(DamageMeaning, OfAWholeFileIsOnePlace) {
  fs::remove(desk_.set_folder(1) + "/index.kidx");
  fs::remove(desk_.set_folder(3) + "/data-001.kvol");
  const json found = verified();
  const json& places = found["parts"][0]["places"];
  ASSERT_EQ(places.size(), 2u) << places;
  for (const json& place : places) EXPECT_EQ(place["whole"], true);
  for (const json& point : found["points"]) {
    std::set<std::string> said;
    for (const json& file : point["affected"]) said.insert(file["path"]);
    const std::set<std::string> lost = lost_at(point["point"]);
    if (lost.contains("everything")) {
      EXPECT_EQ(said, std::set<std::string>{"/"});
      continue;
    }
    for (const std::string& file : lost) EXPECT_TRUE(said.contains(file)) << file << " at " << point["point"];
  }
  EXPECT_THAT(desk_({"verify", "wardens", "--known", "--quiet"}).out,
              HasSubstr("its index would be made anew from its volumes"));
}

}  // namespace
}  // namespace kestrum::test
