// Mail, against a real server on loopback, read with another parser than what wrote it.
#include <gmock/gmock.h>

#include "program/mail_desk.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::Not;
using Json = nlohmann::json;

class Mail : public MailTest {};

TEST_F(Mail, ATestGoesOutEncryptedAndLoggedInAndSaysWhatTheServerAnswered) {
  for (const char* way : {"starttls", "from-the-beginning"}) {
    const std::string folder = desk_.folder / way;
    std::filesystem::create_directories(folder);
    const MailServer server(folder, {"--tls", way, "--login", "office", "tern in the fog"});
    password("tern in the fog\n");
    settings(server, "certificates = \"" + server.certificate() + "\"\nsecurity = \"" +
                         (std::string(way) == "starttls" ? "starttls" : "tls") + "\"\n" + login());
    if (!std::filesystem::exists(desk_.folder / "home/jobs/wardens.toml")) desk_.define({}, false);
    Ran check = desk_({"settings", "check"});
    EXPECT_EQ(check.exit, 0) << check.out << check.err;
    EXPECT_THAT(check.out, HasSubstr("takes us"));
    Ran tell = desk_({"tell", "wardens", "--test"});
    EXPECT_EQ(tell.exit, 0) << tell.err;
    EXPECT_THAT(tell.out, HasSubstr("250 2.0.0 queued as 1"));
    const Json mails = server.mails();
    ASSERT_EQ(mails.size(), 1u);
    EXPECT_TRUE(mails[0]["tls"]);
    EXPECT_TRUE(mails[0]["login"]);
    EXPECT_EQ(mails[0]["type"], "multipart/alternative");
    EXPECT_THAT(mails[0]["defects"], IsEmpty());
    EXPECT_EQ(mails[0]["header-to"], "office@skerrypoint.example");
    EXPECT_LE(mails[0]["longest-line"], 998);
  }
}

TEST_F(Mail, ServersThatDoNotTakeItAreSaidInPlainWords) {
  desk_.define({}, false);
  const auto trial = [&] {
    const Ran ran = desk_({"tell", "wardens", "--test"});
    EXPECT_EQ(ran.exit, 3) << ran.out;
    return ran.err;
  };
  EXPECT_THAT(desk_({"tell", "wardens", "--test"}).err, HasSubstr("no mail server is known"));
  write_settings("server = \"localhost:1\"\nsecurity = \"none\"\nto = \"office@skerrypoint.example\"\n");
  EXPECT_THAT(trial(), HasSubstr("nobody answers at localhost:1"));
  write_settings("server = \"nowhere.invalid\"\nto = \"office@skerrypoint.example\"\n");
  EXPECT_THAT(trial(), HasSubstr("there is no mail server nowhere.invalid"));
  {
    const MailServer server(box(), {"--does", "refuse"});
    settings(server);
    EXPECT_THAT(trial(), HasSubstr("554 5.7.1 this is not taken"));
    settings(server, "security = \"starttls\"\n");
    EXPECT_THAT(trial(), HasSubstr("offers no encryption"));
    settings(server, "security = \"tls\"\n");
    EXPECT_THAT(trial(), HasSubstr("not who it should be"));
  }
  {
    const MailServer server(box(), {"--does", "break-off"});
    settings(server);
    EXPECT_THAT(trial(), HasSubstr("broke off"));
  }
  const MailServer server(box(), {"--tls", "starttls", "--login", "office", "tern in the fog"});
  settings(server, "");
  EXPECT_THAT(trial(), HasSubstr("not who it should be"));
  password("tern in the mist\n");
  settings(server, login() + "certificates = \"" + server.certificate() + "\"\n");
  const std::string refused = trial();
  EXPECT_THAT(refused, HasSubstr("refuses the login of office"));
  EXPECT_THAT(refused, Not(HasSubstr("tern in the mist")));
  chmod((desk_.folder / "mail.pass").c_str(), 0644);
  EXPECT_THAT(trial(), HasSubstr("may be read by everybody"));
  EXPECT_THAT(server.mails(), IsEmpty());
}

TEST_F(Mail, ARunThatFailsIsToldAndThatItIsGoodAgain) {
  const MailServer server(box());
  settings(server);
  desk_.define({}, false);
  clock_.set("2027-03-01T12:00:00Z", 0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_THAT(server.mails(), IsEmpty()) << "that all is well is no news";
  break_source();
  const Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 3);
  EXPECT_THAT(run.err, HasSubstr("mail to office@skerrypoint.example: skerry-1: wardens needs a look"));
  desk_({"run", "wardens"});
  EXPECT_EQ(server.mails().size(), 1u) << "the same trouble once a day";
  const Json mail = server.mails()[0];
  EXPECT_THAT(mail["subject"],
              HasSubstr("skerry-1: wardens needs a look: the last run failed: nothing could be read"));
  EXPECT_THAT(mail["text"], HasSubstr("kestrum history wardens --run 2 --log"));
  EXPECT_THAT(mail["html"], HasSubstr("the last run failed"));
  mend_source();
  clock_.set("2027-03-01T14:00:00Z", 0);
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  ASSERT_EQ(server.mails().size(), 2u);
  EXPECT_EQ(server.mails()[1]["subject"], "skerry-1: wardens is good again");
}

TEST_F(Mail, ARunDoesNotFailForTheSakeOfTelling) {
  desk_.define({"--tell-when", "every run"}, false);
  write_settings("server = \"localhost:1\"\nsecurity = \"none\"\nto = \"office@skerrypoint.example\"\n");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  const Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0);
  EXPECT_THAT(run.err, HasSubstr("is tried again later: nobody answers"));
  const Ran status = desk_({"status"});
  EXPECT_THAT(status.out, HasSubstr("1 mail to office@skerrypoint.example since"));
  // Whoever has mended the server does not wait for the next try.
  EXPECT_EQ(desk_({"tell"}).exit, 3);
  write_settings("servre = \"localhost:1\"\n");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("The settings do not read, and no mail goes out"));
  write_file(desk_.folder / "home/state/outbox/nonsense.json", "{");
  write_file(desk_.folder / "home/state/outbox/memory.json", "[3]");
  write_settings("server = \"localhost:1\"\nsecurity = \"none\"\nto = \"office@skerrypoint.example\"\n");
  EXPECT_EQ(desk_({"run", "wardens"}).exit, 0);
  EXPECT_EQ(desk_({"status"}).exit, 0);
}

// Nothing of a name is taken for markup, a header or a line of its own.
TEST_F(Mail, NamesAreNamesWhateverTheyHold) {
  const MailServer server(box());
  settings(server);
  const std::string name = "<b>x<\u0301b>&\"' tern \u4e2d";
  ASSERT_EQ(
      desk_({"job", "define", name, "--what-folders", desk_.source(), "--where-destinations", desk_.drive(),
             "--same-disk", "--protect-encryption", "none", "--what-description", "Subject: x"})
          .exit,
      0);
  write_file(desk_.source() + "/a\nBcc: all@skerrypoint.example\n\n<script>", "x");
  break_source();
  desk_({"run", name});
  const Json mails = server.mails();
  ASSERT_EQ(mails.size(), 1u);
  EXPECT_THAT(mails[0]["subject"].get<std::string>(), HasSubstr(name));
  EXPECT_THAT(mails[0]["text"].get<std::string>(), HasSubstr(name));
  EXPECT_THAT(mails[0]["html"].get<std::string>(), HasSubstr("&lt;b&gt;x&lt;"));
  EXPECT_THAT(mails[0]["html"].get<std::string>(), Not(HasSubstr("<b>x<")));
  EXPECT_THAT(mails[0]["to"], ElementsAre("office@skerrypoint.example"));
  EXPECT_THAT(mails[0]["defects"], IsEmpty());
}

TEST_F(Mail, AnAddressThatIsNoneKeepsNoOtherFromItsMail) {
  const MailServer server(box(), {"--refuse", "nobody@skerrypoint.example"});
  settings(server);
  desk_.define({"--tell-mail", "nobody@skerrypoint.example", "--tell-mail", "wardens@skerrypoint.example"},
               false);
  break_source();
  const Ran run = desk_({"run", "wardens"});
  EXPECT_THAT(run.err, HasSubstr("550 5.1.1 there is nobody of that name"));
  ASSERT_EQ(server.mails().size(), 1u);
  EXPECT_THAT(server.mails()[0]["to"], ElementsAre("wardens@skerrypoint.example"));
  EXPECT_THAT(desk_({"status"}).out, HasSubstr("mail to nobody@skerrypoint.example"));
}

// A server that hangs costs the time limit, and no more.
TEST_F(Mail, AServerThatHangsIsLeftAlone) {
  MailServer server(box(), {"--does", "hang"});
  settings(server, "security = \"none\"\n");
  desk_.define({}, false);
  break_source();
  const pid_t run = desk_.program.start({"run", "wardens"});
  ASSERT_TRUE(comes([&] { return status()["mail"]["waiting"] == 1; }));
  std::this_thread::sleep_for(std::chrono::milliseconds(300));
  // Whoever does not want to wait ends it: what it did stands, and the mail is kept.
  kill(run, SIGINT);
  EXPECT_EQ(Program::wait(run), 11);
  server.does("take");
  clock_.set("2027-03-01T12:00:00Z", 0);
  desk_({"tell"});
  EXPECT_EQ(server.mails().size(), 1u);
}

// The agent sends what there is, and what could not be sent goes when the server is there again: exactly
// that.
TEST_F(Mail, AServerThatIsDownForADayGetsEachMailOnceAfterwards) {
  MailServer server(box());
  settings(server);
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}, false).exit, 0);
  break_source();
  server.stop();
  clock_.set("2027-03-01T12:00:00Z", 600);
  begin_agent();
  ASSERT_TRUE(ran(1));
  ASSERT_TRUE(comes([&] { return status()["mail"]["waiting"] == 1; }));
  let_pass_to("2027-03-02T06:00:00Z");
  EXPECT_EQ(status()["mail"]["waiting"], 1);
  // Killed and begun anew meanwhile.
  end_agent(SIGKILL);
  begin_agent();
  server.start();
  clock_.go(600);
  ASSERT_TRUE(comes([&] { return status()["mail"]["waiting"] == 0; }));
  clock_.go(1);
  EXPECT_THAT(subjects(server), ElementsAre(HasSubstr("wardens needs a look: the last run failed")));
  mend_source();
  let_pass_to("2027-03-02T13:00:00Z");
  ASSERT_TRUE(comes([&] { return server.mails().size() == 2; }));
  EXPECT_THAT(subjects(server)[1], HasSubstr("wardens is good again"));
}

}  // namespace
}  // namespace kestrum::test
