// agent install and agent remove.
#include <fmt/format.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/file_handle.hpp"
#include "base/shell_command.hpp"
#include "base/text.hpp"
#include "cli/agent_units.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

// Where what starts the agent goes, and how the system is told.
struct Place {
  std::string folder;
  bool unit = true;     // of systemd; else an autostart entry
  std::string manager;  // the command that tells systemd; empty: nobody is told
  std::string file() const { return folder + "/" + (unit ? agent_unit_name : agent_autostart_name); }
};

std::string config_folder() {
  const char* config = std::getenv("XDG_CONFIG_HOME");
  if (config != nullptr && config[0] == '/') return config;
  const char* home = std::getenv("HOME");
  return std::string(home != nullptr ? home : "") + "/.config";
}

Place place_of(const Arguments& arguments) {
  if (std::optional<std::string> into = arguments.value("into"))
    return {fs::absolute(*into).string(), true, {}};
  // As systemd itself says whether it runs: sd_booted(3).
  const bool runs = fs::is_directory("/run/systemd/system");
  if (geteuid() == 0) {
    if (!runs)
      throw Error(ErrorKind::failed, "systemd does not run here, so there is nobody to start the agent",
                  "have your own init start 'kestrum agent', or write the unit with --into DIR");
    return {"/etc/systemd/system", true, "systemctl"};
  }
  if (runs) return {config_folder() + "/systemd/user", true, "systemctl --user"};
  return {config_folder() + "/autostart", false, {}};
}

std::string own_program() {
  std::error_code code;
  const std::string path = fs::read_symlink("/proc/self/exe", code).string();
  if (code || path.empty())
    throw Error(ErrorKind::failed, "it cannot be told where this program is", "is /proc mounted?");
  return path;
}

// Told line by line; throws Error of kind failed when it does not work.
void tell_manager(const std::string& command) {
  constexpr std::chrono::seconds limit = std::chrono::minutes(1);
  const CommandResult result = run_shell(command, {}, limit, process_control());
  if (!result.good())
    throw Error(ErrorKind::failed, "'" + command + "' did not work: " + result.reason(limit),
                "what was written stays; try the command by hand");
  out("Told the system: {}\n", command);
}

int install(const Arguments& arguments, const Environment&) {
  const Place place = place_of(arguments);
  const char* home = std::getenv("KESTRUM_HOME");
  const std::string named_home = home != nullptr && home[0] != '\0' ? fs::absolute(home).string() : "";
  const std::string text = place.unit ? agent_unit(geteuid() == 0, own_program(), named_home)
                                      : agent_autostart(own_program(), named_home);
  std::error_code code;
  fs::create_directories(place.folder, code);
  if (code) throw system_error("create the folder", place.folder, code.value());
  replace_file(place.file(), as_bytes(text), 0644);
  out("Wrote {}\n", printable(place.file()));
  if (!place.manager.empty()) {
    tell_manager(place.manager + " daemon-reload");
    tell_manager(place.manager + " enable --now " + std::string(agent_unit_name));
    out("The agent runs now, and after each start of the machine{}.\n",
        geteuid() == 0 ? "" : ", once you have logged in (to have it run before: loginctl enable-linger)");
  } else if (!place.unit) {
    out("The agent starts with your desktop from the next login on; until then: kestrum agent\n");
  } else {
    out("Nobody was told of it: put it where systemd looks for units.\n");
  }
  return exit_done;
}

int take_away(const Arguments& arguments, const Environment&) {
  const Place place = place_of(arguments);
  if (!fs::exists(place.file()))
    throw Error(ErrorKind::usage, "nothing starts the agent here: there is no " + printable(place.file()),
                "if an agent runs all the same, see: kestrum status");
  if (!place.manager.empty()) tell_manager(place.manager + " disable --now " + std::string(agent_unit_name));
  if (unlink(place.file().c_str()) != 0) throw system_error("remove", place.file(), errno);
  out("Removed {}\n", printable(place.file()));
  if (!place.manager.empty()) tell_manager(place.manager + " daemon-reload");
  out("Nothing starts by itself any more. Jobs, their history and their sets stay as they are.\n");
  return exit_done;
}

const OptionSpec into_option{"into", "DIR", "the folder for the unit, and nobody is told (for packages)"};

}  // namespace

Verb agent_install_verb() {
  return {{"agent install",
           "",
           "have the system start the agent",
           "For root a unit of the machine, for anybody else one of their own; where there is no systemd, an "
           "entry "
           "in the desktop's autostart folder.",
           0,
           0,
           {into_option},
           {"kestrum agent install", "kestrum agent install --into debian/units"}},
          install};
}

Verb agent_remove_verb() {
  return {{"agent remove",
           "",
           "have the system start the agent no more",
           "Ends it, and takes away what `agent install` has put in place.",
           0,
           0,
           {into_option},
           {"kestrum agent remove"}},
          take_away};
}

}  // namespace kestrum
