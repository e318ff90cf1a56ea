#include "engine/desk_notice.hpp"

#include <grp.h>
#include <pwd.h>
#include <sys/wait.h>
#include <systemd/sd-bus.h>
#include <unistd.h>

#include <vector>

#include "base/text.hpp"

namespace kestrum {
namespace {

// Servers may take markup in the second text.
std::string without_markup(const std::string& words) {
  std::string out;
  for (const char c : words) {
    if (c == '&') {
      out += "&amp;";
    } else if (c == '<') {
      out += "&lt;";
    } else {
      out += c;
    }
  }
  return out;
}

bool notify_here(const std::string& address, const std::string& title, const std::string& words) {
  sd_bus* bus = nullptr;
  if (sd_bus_new(&bus) < 0) return false;
  sd_bus_message* answer = nullptr;
  constexpr std::uint64_t patience_microseconds = 5'000'000;
  const bool shown =
      sd_bus_set_address(bus, address.c_str()) >= 0 && sd_bus_set_bus_client(bus, 1) >= 0 &&
      sd_bus_start(bus) >= 0 && sd_bus_set_method_call_timeout(bus, patience_microseconds) >= 0 &&
      sd_bus_call_method(bus, "org.freedesktop.Notifications", "/org/freedesktop/Notifications",
                         "org.freedesktop.Notifications", "Notify", nullptr, &answer, "susssasa{sv}i",
                         "Kestrum", 0, "drive-harddisk", to_utf8(title).c_str(),
                         without_markup(to_utf8(words)).c_str(), 0, 0, -1) >= 0;
  sd_bus_message_unref(answer);
  sd_bus_flush_close_unref(bus);
  return shown;
}

std::string address_of(uid_t person, const std::string& own_bus) {
  if (person == geteuid() && !own_bus.empty()) return own_bus;
  const std::string socket = "/run/user/" + std::to_string(person) + "/bus";
  return access(socket.c_str(), F_OK) == 0 ? "unix:path=" + socket : std::string();
}

}  // namespace

bool notify_person(uid_t person, const std::string& title, const std::string& words,
                   const std::string& own_bus) {
  const std::string address = address_of(person, own_bus);
  if (address.empty()) return false;
  if (person == geteuid()) return notify_here(address, title, words);
  if (geteuid() != 0) return false;
  // Their bus takes no calls from others, and root does not talk to what they may have put there.
  const passwd* account = getpwuid(person);
  if (account == nullptr) return false;
  const gid_t group = account->pw_gid;
  const pid_t child = fork();
  if (child == 0) {
    const bool taken = setgroups(0, nullptr) == 0 && setresgid(group, group, group) == 0 &&
                       setresuid(person, person, person) == 0;
    _exit(taken && notify_here(address, title, words) ? 0 : 1);
  }
  int status = 0;
  return child > 0 && waitpid(child, &status, 0) == child && WIFEXITED(status) && WEXITSTATUS(status) == 0;
}

}  // namespace kestrum
