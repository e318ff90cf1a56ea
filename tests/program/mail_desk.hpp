// A desk with a mail server of its own.
#pragma once

#include "program/agent_desk.hpp"
#include "support/mail_server.hpp"

namespace kestrum::test {

class MailTest : public AgentTest {
 protected:
  MailTest() { std::filesystem::create_directories(box()); }
  std::string box() const { return desk_.folder / "box"; }
  void settings(const MailServer& server, const std::string& more = "security = \"none\"\n") {
    write_settings("server = \"" + server.address() + "\"\nto = \"office@skerrypoint.example\"\n" + more);
  }
  void write_settings(const std::string& mail) {
    std::filesystem::create_directories(desk_.folder / "home");
    write_file(desk_.folder / "home/settings.toml", "[mail]\n" + mail);
  }
  void password(const std::string& text) {
    write_file(desk_.folder / "mail.pass", text);
    chmod((desk_.folder / "mail.pass").c_str(), 0600);
  }
  std::string login() const {
    return "login = \"office\"\npassword = \"file:" + std::string(desk_.folder / "mail.pass") + "\"\n";
  }
  static std::vector<std::string> subjects(const MailServer& server) {
    std::vector<std::string> all;
    for (const Json& mail : server.mails()) all.push_back(mail["subject"]);
    return all;
  }
  // A job without a source: its runs fail.
  void break_source() { std::filesystem::rename(desk_.source(), desk_.folder / "elsewhere"); }
  void mend_source() { std::filesystem::rename(desk_.folder / "elsewhere", desk_.source()); }
};

}  // namespace kestrum::test
