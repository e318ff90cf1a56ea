// The agent under the system's manager: units that are well formed, and the manager told what it wants to
// hear.
#include <sys/socket.h>
#include <sys/un.h>
#include <unistd.h>

#include "base/file_handle.hpp"
#include "program/agent_desk.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

class Units : public AgentTest {
 protected:
  std::string folder() const { return desk_.folder / "units"; }
  std::string verify(const std::string& file) {
    const std::string out = desk_.folder / "verify.txt";
    const int code =
        std::system(("systemd-analyze verify --man=no '" + file + "' > '" + out + "' 2>&1").c_str());
    return code == 0 ? read_file(out) : "exit " + std::to_string(code) + "\n" + read_file(out);
  }
};

TEST_F(Units, PassTheManagersOwnCheck) {
  Ran install = desk_({"agent", "install", "--into", folder()});
  ASSERT_EQ(install.exit, 0) << install.err;
  const std::string file = folder() + "/kestrum-agent.service";
  EXPECT_THAT(install.out, HasSubstr("Wrote " + file));
  EXPECT_EQ(verify(file), "");
  const std::string text = read_file(file);
  EXPECT_THAT(text, HasSubstr("Type=notify"));
  EXPECT_THAT(text, HasSubstr("KESTRUM_HOME=" + desk_.folder.path()));
  EXPECT_THAT(text, HasSubstr("WantedBy=multi-user.target"));
  EXPECT_EQ(desk_({"agent", "remove", "--into", folder()}).exit, 0);
  EXPECT_FALSE(std::filesystem::exists(file));
  Ran again = desk_({"agent", "remove", "--into", folder()});
  EXPECT_EQ(again.exit, 2);
  EXPECT_THAT(again.err, HasSubstr("nothing starts the agent here"));
}

// Words that mean something to the manager are only words.
TEST_F(Units, AHomeWithAnOddName) {
  desk_.program.environment["KESTRUM_HOME"] = desk_.folder / "a 100% \"odd\" $HOME";
  ASSERT_EQ(desk_({"agent", "install", "--into", folder()}).exit, 0);
  EXPECT_EQ(verify(folder() + "/kestrum-agent.service"), "");
  EXPECT_THAT(read_file(folder() + "/kestrum-agent.service"), HasSubstr("a 100%% \\\"odd\\\" $HOME\""));
}

TEST_F(Units, AnOrdinaryUserGetsAnEntryWhereThereIsNoManager) {
  if (geteuid() != 0) GTEST_SKIP() << "needs root, to become somebody else";
  if (std::filesystem::exists("/run/systemd/system")) GTEST_SKIP() << "systemd runs here";
  constexpr unsigned somebody = 65534;
  const std::string home = desk_.folder / "at-home";
  std::filesystem::create_directories(home);
  ASSERT_EQ(chown(home.c_str(), somebody, somebody), 0);
  std::filesystem::permissions(desk_.folder.path(), std::filesystem::perms::others_exec,
                               std::filesystem::perm_options::add);
  desk_.program.environment["HOME"] = home;
  desk_.program.environment["XDG_CONFIG_HOME"] = "";
  desk_.program.environment.erase("KESTRUM_HOME");
  desk_.program.user = somebody;
  Ran install = desk_({"agent", "install"});
  ASSERT_EQ(install.exit, 0) << install.err;
  const std::string text = read_file(home + "/.config/autostart/kestrum-agent.desktop");
  EXPECT_THAT(text, HasSubstr("[Desktop Entry]\nType=Application\n"));
  EXPECT_THAT(text, HasSubstr(std::string(KESTRUM_BINARY) + "\" agent\n"));
  EXPECT_EQ(desk_({"agent", "remove"}).exit, 0);
}

// A manager that wants to be told: sd_notify(3).
TEST_F(Units, TheManagerHearsThatItIsReadyHowItStandsAndThatItLives) {
  ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30"}).exit, 0);
  const std::string path = desk_.folder / "notify";
  const FileHandle manager(socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0));
  sockaddr_un address{};
  address.sun_family = AF_UNIX;
  ASSERT_LT(path.size(), sizeof address.sun_path);
  path.copy(address.sun_path, path.size());
  ASSERT_EQ(bind(manager.get(), reinterpret_cast<sockaddr*>(&address), sizeof address), 0);
  timeval patience{10, 0};
  setsockopt(manager.get(), SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
  desk_.program.environment["NOTIFY_SOCKET"] = path;
  desk_.program.environment["WATCHDOG_USEC"] = "400000";
  agent_ = desk_.program.start({"agent"});
  std::string heard;
  int beats = 0;
  while (beats < 3) {
    char message[1024];
    const ssize_t got = recv(manager.get(), message, sizeof message, 0);
    ASSERT_GT(got, 0) << heard;
    const std::string one(message, static_cast<std::size_t>(got));
    heard += one + "\n";
    beats += one == "WATCHDOG=1" ? 1 : 0;
  }
  EXPECT_TRUE(heard.starts_with("READY=1\n")) << heard;
  EXPECT_THAT(heard, HasSubstr("STATUS=nothing runs; looks again 2027-03-01 12:30"));
  EXPECT_EQ(end_agent(), 0);
}

}  // namespace
}  // namespace kestrum::test
