#include "job/settings.hpp"

#include <gmock/gmock.h>

#include "base/error.hpp"

namespace kestrum {
namespace {

using testing::HasSubstr;

std::string why_not(const std::string& text) {
  try {
    parse_settings("settings.toml", text);
  } catch (const Error& error) {
    return error.what() + ("\n" + error.hint());
  }
  return "";
}

TEST(Settings, ReadWhatTheySay) {
  const Settings settings = parse_settings("settings.toml", R"([mail]
server = "[::1]:2525"
security = "tls"
login = "office@skerrypoint.example"
password = "file:/etc/kestrum/mail.pass"
to = ["office@skerrypoint.example", "wardens@skerrypoint.example"]
[runs]
side-by-side = 3
[logs]
number = "50 logs"
age = "3 months"
)");
  EXPECT_EQ(settings.mail.server, "::1");
  EXPECT_EQ(settings.mail.port_used(), 2525);
  EXPECT_EQ(settings.mail.sender("tern"), "office@skerrypoint.example");
  EXPECT_EQ(settings.mail.to.size(), 2u);
  EXPECT_EQ(settings.side_by_side, 3u);
  EXPECT_EQ(settings.logs, 50u);
  EXPECT_EQ(settings.log_age.text(), "3 months");
}

TEST(Settings, PortsAreThoseOfTheSecurity) {
  EXPECT_EQ(parse_settings("s", "[mail]\nserver = \"a.example\"").mail.port_used(), 587);
  EXPECT_EQ(parse_settings("s", "[mail]\nserver = \"a.example\"\nsecurity = \"tls\"").mail.port_used(), 465);
  EXPECT_EQ(parse_settings("s", "[mail]\nserver = \"localhost\"\nsecurity = \"none\"").mail.port_used(), 25);
  EXPECT_EQ(parse_settings("s", "[mail]\nserver = \"a.example\"").mail.sender("the tern"),
            "kestrum@the-tern");
}

TEST(Settings, WhatIsWrongIsSaidWithItsPlace) {
  EXPECT_THAT(why_not("[mail]\nservre = \"a.example\"\n"),
              HasSubstr("settings.toml:2:1: there is no key 'servre'"));
  EXPECT_THAT(why_not("[mail]\nservre = \"a.example\"\n"), HasSubstr("did you mean 'server'?"));
  EXPECT_THAT(why_not("[mail]\nto = \"office\"\n"), HasSubstr("is no mail address"));
  EXPECT_THAT(why_not("[mail]\nto = \"office@skerrypoint.example\"\n"),
              HasSubstr("does not say which server"));
  EXPECT_THAT(why_not("[mail]\nserver = \"a.example\"\nsecurity = \"none\"\n"),
              HasSubstr("is another machine"));
  EXPECT_THAT(why_not("[mail]\nserver = \"a.example\"\nlogin = \"x\"\n"), HasSubstr("no password"));
  EXPECT_THAT(why_not("[mail]\nserver = \"a.example\"\npassword = \"secret\"\n"), HasSubstr("which file"));
  for (const char* server :
       {"", "a b", "a.example:0", "a.example:99999", "a.example:x", "http://a.example", ":25"})
    EXPECT_NE(why_not("[mail]\nserver = \"" + std::string(server) + "\"\n"), "") << server;
  EXPECT_NE(why_not("[runs]\nside-by-side = \"0\"\n"), "");
  EXPECT_NE(why_not("[jobs]\n"), "");
  EXPECT_NE(why_not("mail = 3\n"), "");
}

// A header or a command line is not to be had through an address.
TEST(Settings, AddressesHoldNothingThatIsNotOne) {
  for (const char* good : {"office@skerrypoint.example", "a.b+c@d-e.example", "x@localhost"})
    EXPECT_NO_THROW(check_mail_address(good)) << good;
  for (const char* bad : {"", "@", "a@", "@b", "a@b@c", "a b@c", "a@b\r\nBcc: x@y", "<a@b>", "-f@b",
                          "a@b,c@d", "\"a\"@b", "a@b;", "ö@b.example"})
    EXPECT_THROW(check_mail_address(bad), Error) << bad;
}

TEST(Settings, AreEditedByTheirPlace) {
  const std::string text =
      "# ours\n[mail]\nserver = \"a.example\"  # the old one\n\n[logs]\nnumber = \"50 logs\"\n";
  const auto key = [](const char* option) { return find_option(settings_file_keys(), option); };
  const std::string edited =
      edit_settings_text("s", text, {{key("mail-server"), KeyValues{"b.example"}}, {key("logs-number"), {}}});
  EXPECT_EQ(edited, "# ours\n[mail]\nserver = \"b.example\"  # the old one\n\n[logs]\n");
  EXPECT_EQ(edit_settings_text("s", "", {{key("runs-side-by-side"), KeyValues{"3"}}}),
            "[runs]\nside-by-side = \"3\"\n");
  EXPECT_THROW(edit_settings_text("s", text, {{key("mail-to"), KeyValues{"office"}}}), Error);
}

}  // namespace
}  // namespace kestrum
