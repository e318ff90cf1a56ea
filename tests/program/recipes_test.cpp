// The recipes of the guide, as they stand there, each for weeks of simulated days on drives of a size.
#include <fstream>
#include <nlohmann/json.hpp>

#include "program/desk.hpp"
#include "support/mounts.hpp"
#include "support/recipe.hpp"

namespace kestrum::test {
namespace {

using Json = nlohmann::json;

class Recipes : private InMemory, public testing::Test {
 protected:
  static constexpr std::int64_t begin = 1803931200 + 1800;  // 2027-03-01 20:30 UTC
  static constexpr std::size_t file_bytes = 256u << 10;
  static constexpr unsigned files = 96;  // 24 MiB that do not compress

  void SetUp() override {
    if (!may_mount()) GTEST_SKIP() << "mounting needs root";
    desk_.program.environment["TZ"] = "UTC";
    for (unsigned n = 0; n < files; ++n) write(n);
    set_day(0);
  }

  void mount_drive(const std::string& size) {
    drive_ = std::make_unique<Mounted>("tmpfs", desk_.drive(), "-t tmpfs -o size=" + size);
    ASSERT_TRUE(drive_->good());
  }

  // The guide's drives hold a thousand times as much: its volumes are cut down alike.
  void define(const std::string& name) {
    std::string text = recipe(read_file(std::string(KESTRUM_SOURCE) + "/docs/GUIDE.md"), name);
    ASSERT_NE(text, "") << "no recipe " << name;
    text = replaced(text, "\"/srv\"", "\"" + desk_.source() + "\"");
    text = replaced(text, "label:tern-1", desk_.drive());
    text = replaced(text, "label:tern-2", second());
    text = replaced(text, "[where]\n", "[where]\nsame-disk = \"accept\"\n");
    text = replaced(text, "passphrase = \"file:/etc/kestrum/wardens.pass\"", "encryption = \"none\"");
    std::string how = "[how]\nvolume-size = \"1 MiB\"\n";
    text = text.find("[how]") != std::string::npos ? replaced(text, "[how]\n", how)
                                                   : replaced(text, "[protect]\n", how + "[protect]\n");
    write_file(desk_.folder / "job.toml", text);
    Ran ran = desk_({"job", "define", "wardens", "--from", desk_.folder / "job.toml"});
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }

  std::string second() const { return desk_.folder / "drive-2"; }

  void write(unsigned n) {
    std::string content(file_bytes, 0);
    for (char& c : content) c = static_cast<char>(random_());
    write_file(desk_.source() + "/recording-" + std::to_string(n), content);
  }

  void set_day(unsigned day) {
    now_ = begin + std::int64_t{day} * 86400;
    time_t seconds = now_;
    char text[32];
    std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", gmtime(&seconds));
    desk_.program.environment["KESTRUM_NOW"] = text;
  }

  // A day's work and its run; what there was is remembered under the point.
  void live(unsigned day) {
    set_day(day);
    for (int i = 0; i < 2; ++i) write(static_cast<unsigned>(random_()) % files);
    write_file(desk_.source() + "/list.csv", "day " + std::to_string(day) + "\n");
    Ran ran = desk_({"run", "wardens", "--quiet"});
    ASSERT_EQ(ran.exit, 0) << "day " << day << ": " << ran.err << ran.out;
  }

  Json points() {
    Ran ran = desk_({"points", "wardens", "--json"});
    return Json::parse(ran.out);
  }

  std::string restored_list(const std::string& when) {
    std::string to = desk_.folder / "back";
    std::filesystem::remove_all(to);
    Ran ran = desk_({"restore", "wardens", desk_.source(), "--at", when, "--to", to, "--quiet"});
    EXPECT_EQ(ran.exit, 0) << when << ": " << ran.err;
    EXPECT_EQ(std::distance(std::filesystem::directory_iterator(to + "/source"), {}), files + 1) << when;
    std::ifstream file(to + "/source/list.csv");
    std::string line;
    std::getline(file, line);
    return line;
  }

  std::uint64_t stored() {
    const Json document = points();
    std::uint64_t bytes = 0;
    for (const auto& point : document.at("points"))
      bytes += point.at("totals").at("stored-bytes").get<std::uint64_t>();
    return bytes;
  }

  Desk desk_;
  std::unique_ptr<Mounted> drive_, second_drive_;
  std::mt19937 random_{5};
  std::int64_t now_ = 0;
};

TEST_F(Recipes, AnyDayOfTheLastTwoWeeksOnADriveTwiceTheData) {
  mount_drive("49m");
  define("days");
  for (unsigned day = 0; day <= 45; ++day) live(day);
  for (unsigned ago = 0; ago <= 13; ++ago) {
    set_day(45);
    std::string when = ago == 0 ? "latest" : std::to_string(ago) + " days ago";
    EXPECT_EQ(restored_list(when), "day " + std::to_string(45 - ago));
  }
  EXPECT_LE(points().at("points").size(), 16u);
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 0);
}

TEST_F(Recipes, TenFulls) {
  mount_drive("290m");
  define("fulls");
  for (unsigned week = 0; week < 14; ++week) live(week * 7);
  const Json document = points();
  EXPECT_EQ(document.at("points").size(), 10u);
  for (const auto& point : document.at("points")) {
    EXPECT_EQ(point.at("kind"), "full");
    EXPECT_TRUE(point.at("needs").empty());
  }
  EXPECT_EQ(restored_list("5"), "day 28");
}

TEST_F(Recipes, TwoDrivesTakingTurns) {
  mount_drive("200m");
  define("turns");
  std::string away = desk_.folder / "cupboard";
  auto mount_second = [&] {
    second_drive_ = std::make_unique<Mounted>("tmpfs", away, "-t tmpfs -o size=200m");
    ASSERT_TRUE(second_drive_->good());
  };
  mount_second();
  // What is in the cupboard is not where the job looks for it.
  auto connect = [&](const std::string& from, const std::string& to) {
    std::filesystem::create_directories(to);
    ASSERT_EQ(std::system(("mount --move '" + from + "' '" + to + "'").c_str()), 0);
  };
  std::string first_away = desk_.folder / "shelf";
  for (unsigned week = 0; week < 6; ++week) {
    if (week == 1) connect(desk_.drive(), first_away);
    if (week == 1) connect(away, second());
    if (week > 1 && week % 2 == 0) connect(second(), away), connect(first_away, desk_.drive());
    if (week > 1 && week % 2 == 1) connect(desk_.drive(), first_away), connect(away, second());
    for (unsigned day = 0; day < 7; day += 2) live(week * 7 + day);
  }
  connect(first_away, desk_.drive());  // both are there
  const Json document = points();
  ASSERT_EQ(document.at("destinations").size(), 2u);
  int on_first = 0;
  for (const auto& point : document.at("points")) on_first += point.at("drive") == "drive" ? 1 : 0;
  EXPECT_EQ(on_first, 12);
  EXPECT_EQ(document.at("points").size(), 24u);
  EXPECT_EQ(restored_list("latest"), "day 41");     // on the second
  EXPECT_EQ(restored_list("drive:12"), "day 34");   // the first's last
  EXPECT_EQ(restored_list("2027-03-03"), "day 2");  // only the first goes back so far
  Ran ambiguous = desk_({"browse", "wardens", "--at", "3"});
  EXPECT_EQ(ambiguous.exit, 2);
  EXPECT_TRUE(holds(ambiguous.err, "drive:3, drive-2:3")) << ambiguous.err;
  // Now both are there: the one that was written longest ago.
  live(42);
  EXPECT_EQ(points().at("points").size(), 25u);
  EXPECT_EQ(restored_list("drive:13"), "day 42");
  // Only an empty mount point is left of the first: it is not filled.
  connect(desk_.drive(), first_away);
  live(43);
  EXPECT_TRUE(std::filesystem::is_empty(desk_.drive()));
  connect(first_away, desk_.drive());  // where they are unmounted from
  connect(second(), away);
}

TEST_F(Recipes, IncrementsForEver) {
  mount_drive("100m");
  define("for-ever");
  for (unsigned day = 0; day <= 60; ++day) live(day);
  const Json history = Json::parse(desk_({"history", "wardens", "--json"}).out);
  int fulls = 0;
  for (const auto& run : history.at("runs")) fulls += run.at("kind") == "full" ? 1 : 0;
  EXPECT_EQ(fulls, 1);
  std::size_t left = points().at("points").size();
  EXPECT_GE(left, 13u);
  EXPECT_LE(left, 18u);
  EXPECT_EQ(restored_list("latest"), "day 60");
  EXPECT_EQ(restored_list("2027-03-31"), "day 30");  // the last of its month
  EXPECT_EQ(desk_({"verify", "wardens"}).exit, 0);
}

TEST_F(Recipes, AsSmallAsPossible) {
  mount_drive("100m");
  // Text, which compression is for.
  for (unsigned n = 0; n < files; ++n) {
    std::string text;
    while (text.size() < file_bytes)
      text += "ring " + std::to_string(random_() % 100000) + ", tern, north beach\n";
    write_file(desk_.source() + "/recording-" + std::to_string(n), text);
  }
  define("small");
  for (unsigned day = 0; day < 12; ++day) live(day);
  std::uint64_t small = stored();
  EXPECT_LE(points().at("points").size(), 5u);
  ASSERT_EQ(
      desk_({"job", "edit", "wardens", "--how-compression", "fast", "--how-renew", "every 30 sets"}).exit, 0);
  ASSERT_EQ(desk_({"run", "wardens", "--kind", "full", "--quiet"}).exit, 0);
  EXPECT_LT(small, 24u << 20);
  EXPECT_LT(static_cast<double>(small) * 0.5, static_cast<double>(stored() - small));
}

TEST_F(Recipes, TheQuickestRestore) {
  mount_drive("110m");
  define("quick");
  for (unsigned day = 0; day < 6; ++day) live(day);
  const Json document = points();
  EXPECT_EQ(document.at("points").size(), 3u);
  for (const auto& point : document.at("points")) EXPECT_TRUE(point.at("needs").empty());
  EXPECT_EQ(restored_list("4"), "day 3");
}

}  // namespace
}  // namespace kestrum::test
