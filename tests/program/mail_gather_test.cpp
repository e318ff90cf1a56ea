// What goes into a mail and when: gathered, in digests, not twice, and by the machine's own program.
#include <gmock/gmock.h>

#include "program/mail_desk.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::Not;
using testing::SizeIs;
using Json = nlohmann::json;

class MailGathered : public MailTest {
 protected:
  void define(const std::string& job, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"job",
                                   "define",
                                   job,
                                   "--what-folders",
                                   desk_.source(),
                                   "--where-destinations",
                                   desk_.drive(),
                                   "--same-disk",
                                   "--protect-encryption",
                                   "none"};
    words.insert(words.end(), more.begin(), more.end());
    ASSERT_EQ(desk_(words).exit, 0);
  }
  void at(const std::string& utc) { clock_.set(utc, 0); }
};

TEST_F(MailGathered, WhatHappensWithinAnHourGoesTogether) {
  const MailServer server(box());
  settings(server);
  for (const char* job : {"lists", "moths", "tracks"}) define(job);
  break_source();
  at("2027-03-01T12:00:00Z");
  desk_({"run", "lists"});
  at("2027-03-01T12:10:00Z");
  desk_({"run", "moths"});
  at("2027-03-01T12:20:00Z");
  desk_({"run", "tracks"});
  EXPECT_THAT(subjects(server), SizeIs(1));
  at("2027-03-01T13:01:00Z");
  desk_({"tell"});
  ASSERT_THAT(subjects(server), SizeIs(2));
  EXPECT_THAT(subjects(server)[1],
              HasSubstr("skerry-1: 2 jobs need a look: the last run failed: nothing could be read"));
  const std::string text = server.mails()[1]["text"];
  EXPECT_THAT(text, HasSubstr("moths needs a look"));
  EXPECT_THAT(text, Not(HasSubstr("lists needs a look"))) << "that is known";
}

// A drive that is missing is one trouble, for however many jobs.
TEST_F(MailGathered, AMissingDriveIsToldOnceForAllItsJobs) {
  const MailServer server(box());
  settings(server);
  define("lists", {"--when-runs", "daily at 12:30"});
  define("moths", {"--when-runs", "daily at 18:30"});
  at("2027-03-01T12:30:00Z");
  desk_({"run", "--due"});
  at("2027-03-01T18:30:00Z");
  desk_({"run", "--due"});
  std::filesystem::rename(desk_.drive(), desk_.folder / "away");
  for (const char* when :
       {"2027-03-02T12:30:00Z", "2027-03-02T18:30:00Z", "2027-03-03T14:31:00Z", "2027-03-03T21:00:00Z"}) {
    at(when);
    desk_({"run", "--due"});
  }
  EXPECT_THAT(subjects(server), ElementsAre(HasSubstr("lists needs a look: the drive is not there")));
  // Both are in the next one, after a day.
  at("2027-03-04T17:00:00Z");
  desk_({"tell"});
  ASSERT_THAT(subjects(server), SizeIs(2));
  EXPECT_THAT(subjects(server)[1], HasSubstr("2 jobs need a look: the drive is not there"));
}

TEST_F(MailGathered, ADigestSaysHowAllJobsStand) {
  const MailServer server(box());
  settings(server);
  for (const char* job : {"lists", "moths"})
    define(job, {"--tell-when", "a digest a week", "--tell-detail", "everything"});
  at("2027-03-01T12:00:00Z");
  desk_({"run", "--all"});
  at("2027-03-03T12:00:00Z");
  desk_({"run", "--all"});
  EXPECT_THAT(subjects(server), IsEmpty());
  at("2027-03-08T07:00:00Z");
  desk_({"tell"});
  EXPECT_THAT(subjects(server), ElementsAre("skerry-1: the week until Mon 2027-03-08: all 2 jobs are good"));
  const std::string text = server.mails()[0]["text"];
  EXPECT_THAT(text, HasSubstr("lists: 1 done; "));
  EXPECT_THAT(text, HasSubstr("Log of run 2 of moths"));
  desk_({"tell"});
  EXPECT_THAT(subjects(server), SizeIs(1));
}

// [when] warn-after: before it is exceeded, and when it is.
TEST_F(MailGathered, ThatNoGoodPointCameForTooLongIsTold) {
  const MailServer server(box());
  settings(server);
  define("lists", {"--when-warn-after", "2 days"});
  at("2027-03-01T12:00:00Z");
  desk_({"run", "lists"});
  at("2027-03-02T12:00:00Z");
  desk_({"tell"});
  EXPECT_THAT(subjects(server), IsEmpty());
  at("2027-03-03T06:00:00Z");
  desk_({"tell"});
  at("2027-03-03T12:01:00Z");
  desk_({"tell"});
  EXPECT_THAT(
      subjects(server),
      ElementsAre(
          HasSubstr(
              "lists needs a look: the 2 days that it may be without a good point end on 2027-03-03 12:00"),
          HasSubstr("lists needs a look: no good point for 2 days")));
}

TEST_F(MailGathered, EveryRunIsToldWhereItIsWanted) {
  const MailServer server(box());
  settings(server);
  define("lists", {"--tell-when", "every run"});
  desk_({"run", "lists"});
  write_file(desk_.source() + "/counts.csv", "4,Gannet\n");
  at("2027-03-01T13:00:00Z");
  desk_({"run", "lists"});
  EXPECT_THAT(subjects(server), ElementsAre("skerry-1: lists: done, 0 new and 1 changed"));
}

// Written down and then killed: it is sent, and not told again.
TEST_F(MailGathered, KilledBetweenWritingAndRememberingItIsToldOnce) {
  MailServer server(box());
  settings(server);
  define("lists");
  desk_({"run", "lists"});
  break_source();
  server.stop();
  at("2027-03-01T12:00:00Z");
  desk_({"run", "lists"});
  // As it lay there before anything else was written: the mail holds what is to be remembered.
  const std::string outbox = desk_.folder / "home/state/outbox";
  for (const auto& entry : std::filesystem::directory_iterator(outbox)) {
    if (entry.path().extension() != ".json" || entry.path().stem() == "memory") continue;
    Json mail = Json::parse(read_file(entry.path()));
    EXPECT_TRUE(mail["told"].empty());
    mail["told"]["lists"] = read_file(desk_.folder / "home/state/tell/lists.json");
    mail["away"] = "2027-03-01T12:00:00Z";
    write_file(entry.path(), mail.dump());
  }
  std::filesystem::remove(outbox + "/memory.json");
  std::filesystem::remove(desk_.folder / "home/state/tell/lists.json");
  server.start();
  for (const char* when : {"2027-03-01T12:30:00Z", "2027-03-01T14:00:00Z"}) {
    at(when);
    desk_({"tell"});
  }
  EXPECT_THAT(subjects(server), SizeIs(1));
}

TEST_F(MailGathered, ThatNoAgentWasThereIsToldOnce) {
  const MailServer server(box());
  settings(server);
  define("lists", {"--when-runs", "daily at 12:30"});
  begin_agent();
  let_pass_to("2027-03-01T12:31:00Z");
  ASSERT_TRUE(ran(1, "lists"));
  end_agent();
  at("2027-03-04T09:00:00Z");
  begin_agent();
  ASSERT_TRUE(comes([&] { return subjects(server).size() == 1; }));
  EXPECT_EQ(subjects(server)[0], "skerry-1: nobody looked after the jobs for a time");
  const std::string text = server.mails()[0]["text"];
  EXPECT_THAT(text, HasSubstr("no agent was there from 2027-03-01 12:3"));
  EXPECT_THAT(text, HasSubstr("2 runs were due meanwhile"));
  end_agent();
  begin_agent();
  let_pass_to("2027-03-04T12:00:00Z");
  EXPECT_THAT(subjects(server), SizeIs(1));
}

// A program of the machine that speaks sendmail's words, a real one.
TEST_F(MailGathered, TheMachinesOwnProgramTakesItToo) {
  const MailServer server(box());
  std::filesystem::create_directories(desk_.folder / "bin");
  std::filesystem::create_symlink("/usr/bin/msmtp", desk_.folder / "bin/sendmail");
  write_file(desk_.folder / ".msmtprc",
             "account default\nhost 127.0.0.1\nport " + std::to_string(server.port()) + "\n");
  chmod((desk_.folder / ".msmtprc").c_str(), 0600);
  desk_.program.environment["HOME"] = desk_.folder.path();
  desk_.program.environment["PATH"] = desk_.folder / "bin:/usr/bin:/bin";
  write_settings(
      "server = \"sendmail\"\nto = \"office@skerrypoint.example\"\nfrom = \"kestrum@skerrypoint.example\"\n");
  define("lists");
  EXPECT_EQ(desk_({"settings", "check"}).exit, 0);
  const Ran told = desk_({"tell", "lists", "--test"});
  EXPECT_EQ(told.exit, 0) << told.err;
  const Json mails = server.mails();
  ASSERT_THAT(mails, SizeIs(1));
  EXPECT_EQ(mails[0]["from"], "kestrum@skerrypoint.example");
  EXPECT_EQ(mails[0]["types"], (Json{"text/plain", "text/html"}));
  EXPECT_THAT(mails[0]["defects"], IsEmpty());
  std::filesystem::remove(desk_.folder / "bin/sendmail");
  EXPECT_THAT(desk_({"tell", "lists", "--test"}).err, HasSubstr("this machine's mail program, failed"));
  EXPECT_EQ(desk_({"settings", "check"}).exit, 3);
}

}  // namespace
}  // namespace kestrum::test
