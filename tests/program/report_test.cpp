// The report: as a page, checked by programs that know HTML, as figures, as JSON.
#include <gmock/gmock.h>

#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;
using testing::IsEmpty;
using testing::Not;
using Json = nlohmann::json;

std::string said(const std::string& command) {
  std::string out;
  FILE* pipe = popen((command + " 2>&1").c_str(), "r");
  char buffer[4096];
  for (std::size_t got = 0; (got = fread(buffer, 1, sizeof buffer, pipe)) > 0;) out.append(buffer, got);
  pclose(pipe);
  return out;
}

class Report : public AgentTest {
 protected:
  std::string page() const { return desk_.folder / "report.html"; }
  Ran report(std::vector<std::string> words = {}) {
    words.insert(words.begin(), "report");
    words.insert(words.end(), {"--to", page()});
    return desk_(words);
  }
  void days(int first, int last, const std::string& job = "wardens") {
    for (int day = first; day <= last; ++day) {
      char when[32];
      std::snprintf(when, sizeof when, "2027-03-%02dT12:30:00Z", day);
      clock_.set(when, 0);
      write_file(desk_.source() + "/counts.csv", "Gannet," + std::to_string(day) + "\n");
      desk_({"run", job});
    }
  }
  // By two programs that know what HTML may hold.
  static std::string faults(const std::string& path) {
    return said("tidy -q -e '" + path + "'") + said(
                                                   "/usr/bin/python3 -c 'import html5lib, sys; "
                                                   "html5lib.HTMLParser(strict=True).parse(open(sys.argv[1], "
                                                   "\"rb\").read())' '" +
                                                   path + "'");
  }
};

TEST_F(Report, IsAPageOfItsOwnThatIsValid) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}, false).exit, 0);
  days(1, 9);
  std::filesystem::rename(desk_.source(), desk_.folder / "elsewhere");
  clock_.set("2027-03-10T12:30:00Z", 0);
  desk_({"run", "wardens"});
  clock_.set("2027-03-11T08:00:00Z", 0);
  const Ran ran = report();
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("wardens needs a look."));
  EXPECT_EQ(faults(page()), "");
  const std::string text = read_file(page());
  EXPECT_THAT(text, HasSubstr("The newest good point is of Tue 2027-03-09 12:30, 43 h ago."));
  EXPECT_THAT(text, HasSubstr("The last run failed: nothing could be read"));
  EXPECT_THAT(text, HasSubstr("<b>To do:</b> look at what happened: kestrum history wardens --run 10 --log"));
  EXPECT_THAT(text, HasSubstr("In the last 56 days: 9 good runs, 1 without a point."));
  EXPECT_THAT(text, HasSubstr("At this pace it is not full within 90 days"));
  EXPECT_THAT(text, HasSubstr("1 to 9</th>\n<td>2027-03-01</td>"));
  EXPECT_THAT(text, HasSubstr("point 9: read and good, every byte, 2027-03-09 12:30"));
  // Nothing is fetched, nothing runs.
  EXPECT_THAT(text, Not(HasSubstr("<script")));
  EXPECT_THAT(text, Not(HasSubstr("http")));
  EXPECT_EQ(said("grep -o 'src=\"[^d]' '" + page() + "'"), "");
}

TEST_F(Report, NamesAreNamesWhateverTheyHold) {
  const std::string name = "<b>x<b>&\"'";
  ASSERT_EQ(desk_({"job", "define", name, "--what-folders", desk_.source() + "/<i>&amp;</i>",
                   "--where-destinations", desk_.drive(), "--same-disk", "--protect-encryption", "none"})
                .exit,
            0);
  days(1, 1, name);
  EXPECT_EQ(report().exit, 0);
  EXPECT_EQ(faults(page()), "");
  const std::string text = read_file(page());
  EXPECT_THAT(text, HasSubstr("&lt;b&gt;x&lt;b&gt;&amp;&quot;&#39; <span"));
  EXPECT_THAT(text, HasSubstr("&lt;i&gt;&amp;amp;&lt;/i&gt;"));
  EXPECT_THAT(text, Not(HasSubstr("<b>x")));
  EXPECT_THAT(text, Not(HasSubstr("<i>")));
}

TEST_F(Report, OfADriveTellsOfEveryMachineThere) {
  for (const char* machine : {"skerry-1", "skerry-2"}) {
    desk_.program.environment["KESTRUM_MACHINE"] = machine;
    desk_.program.environment["KESTRUM_HOME"] = desk_.folder / ("home-" + std::string(machine));
    ASSERT_EQ(desk_.define({}, false).exit, 0);
    days(1, 2);
  }
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "empty-home";
  const Ran ran = report({desk_.drive()});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("All 2 jobs are good."));
  EXPECT_EQ(faults(page()), "");
  EXPECT_THAT(read_file(page()), HasSubstr("skerry-2: wardens"));
  EXPECT_THAT(read_file(page()), HasSubstr("In the last 56 days: 2 good runs."));
}

TEST_F(Report, FiguresAreFilesAndThePageGoesIntoAPipe) {
  ASSERT_EQ(desk_.define({}, false).exit, 0);
  EXPECT_THAT(desk_({"report"}).out, HasSubstr("No run in the last 56 days."));
  days(1, 3);
  const std::string figures = desk_.folder / "figures/new";
  const Ran ran = desk_({"report", "wardens", "--figures", figures});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  for (const char* name : {"runs", "points", "forecast"}) {
    const std::string file = figures + "/wardens-" + name;
    EXPECT_EQ(read_file(file + ".png").substr(1, 3), "PNG");
    EXPECT_THAT(read_file(file + ".svg"), HasSubstr("</svg>"));
  }
  EXPECT_TRUE(desk_({"report"}).out.starts_with("<!DOCTYPE html>"));
  const Json json = Json::parse(desk_({"report", "--json"}).out);
  EXPECT_EQ(json["sentence"], "wardens is good.");
  EXPECT_EQ(json["jobs"][0]["runs"].size(), 3u);
  EXPECT_EQ(json["jobs"][0]["points"][2]["health"], "proved");
  EXPECT_EQ(json["jobs"][0]["forecast"]["full-on"], nullptr);
}

TEST_F(Report, TwoHundredJobsAreOnePage) {
  for (int number = 0; number < 200; ++number) {
    std::filesystem::create_directories(desk_.folder / "home/jobs");
    write_file(desk_.folder / ("home/jobs/desk-" + std::to_string(number) + ".toml"),
               "[what]\nfolders = [\"" + desk_.source() +
                   "\"]\n[where]\nsame-disk = \"accept\"\ndestinations = [\"" + desk_.drive() +
                   "\"]\n[protect]\nencryption = \"none\"\n");
  }
  days(1, 1, "desk-7");
  const Ran ran = report();
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("199 of 200 jobs need a look."));
  EXPECT_EQ(faults(page()), "");
  EXPECT_LT(std::filesystem::file_size(page()), 2u << 20);
}

TEST_F(Report, WhereItCannotBeWrittenIsSaid) {
  ASSERT_EQ(desk_.define({}, false).exit, 0);
  days(1, 1);
  const Ran ran = desk_({"report", "--to", desk_.folder / "nowhere/report.html"});
  EXPECT_EQ(ran.exit, 3);
  EXPECT_THAT(ran.err, HasSubstr("nowhere/report.html"));
  EXPECT_EQ(desk_({"report", "moths"}).exit, 2);
  EXPECT_EQ(desk_({"report", desk_.folder / "source"}).exit, 5);
  EXPECT_EQ(desk_({"report", "--figures", desk_.pass()}).exit, 3);
}

// [tell] page: after each run, by the agent too; what goes wrong is told, and the run does not fail for it.
TEST_F(Report, AJobsPageIsKeptUpToDate) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--tell-page", page()}, false).exit, 0);
  begin_agent();
  let_pass_to("2027-03-01T12:29:59Z");
  ASSERT_TRUE(ran(1));
  ASSERT_TRUE(comes([&] {
    return std::filesystem::exists(page()) && read_file(page()).find("1 good run.") != std::string::npos;
  }));
  end_agent();
  // It is there to be read, unless somebody closes it.
  struct stat status {};
  ASSERT_EQ(stat(page().c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0644u);
  chmod(page().c_str(), 0640);
  desk_({"run", "wardens"});
  ASSERT_EQ(stat(page().c_str(), &status), 0);
  EXPECT_EQ(status.st_mode & 0777, 0640u);
  std::filesystem::remove(page());
  std::filesystem::create_directory(page());
  const Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_THAT(run.err, HasSubstr("note: the page " + page()));
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("its report page could not be written"));
  std::filesystem::remove(page());
  desk_({"run", "wardens"});
  EXPECT_THAT(desk_({"status"}).out, Not(HasSubstr("report page")));
  EXPECT_THAT(read_file(page()), HasSubstr("4 good runs."));
}

}  // namespace
}  // namespace kestrum::test
