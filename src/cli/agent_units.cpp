#include "cli/agent_units.hpp"

namespace kestrum {
namespace {

// As systemd.syntax(7) wants words with blanks, quotes and its own signs. `$` stands for a variable in
// commands only.
std::string unit_word(const std::string& word, bool in_command) {
  std::string out = "\"";
  for (char c : word) {
    if (c == '"' || c == '\\') out += '\\';
    if (c == '%') out += '%';
    if (c == '$' && in_command) out += '$';
    out += c;
  }
  return out + "\"";
}

}  // namespace

std::string agent_unit(bool of_machine, const std::string& program, const std::string& home) {
  std::string out =
      "[Unit]\n"
      "Description=Kestrum: backup jobs at their times\n";
  if (of_machine) out += "After=local-fs.target remote-fs.target time-sync.target\n";
  out +=
      "\n[Service]\n"
      "Type=notify\n"
      "ExecStart=" +
      unit_word(program, true) + " agent\n";
  if (!home.empty()) out += "Environment=" + unit_word("KESTRUM_HOME=" + home, false) + "\n";
  out +=
      // Its runs are told by it, and put in order what they have begun.
      "KillMode=mixed\n"
      "TimeoutStopSec=10min\n"
      "Restart=on-failure\n"
      "RestartSec=30\n"
      "WatchdogSec=1h\n"
      "OOMPolicy=continue\n"
      "UMask=0077\n"
      // It reads every file and writes to any drive; what it has no business with is taken from it.
      "LockPersonality=yes\n"
      "MemoryDenyWriteExecute=yes\n"
      "RestrictRealtime=yes\n"
      "SystemCallArchitectures=native\n";
  // Nothing that leaves only some devices to it (ProtectClock does): drives are to be found and mounted.
  if (of_machine)
    out +=
        "ProtectControlGroups=yes\n"
        "ProtectHostname=yes\n"
        "ProtectKernelLogs=yes\n"
        "ProtectKernelTunables=yes\n"
        "KeyringMode=private\n";
  return out + "\n[Install]\nWantedBy=" + (of_machine ? "multi-user.target" : "default.target") + "\n";
}

std::string agent_autostart(const std::string& program, const std::string& home) {
  // As the Desktop Entry Specification quotes: first the argument, then the value.
  auto quoted = [](const std::string& word) {
    std::string out = "\"";
    for (char c : word) {
      if (c == '"' || c == '`' || c == '$') out += "\\\\";
      if (c == '\\') out += "\\\\\\";
      if (c == '%') out += '%';
      out += c;
    }
    return out + "\"";
  };
  const std::string variable = home.empty() ? "" : "env " + quoted("KESTRUM_HOME=" + home) + " ";
  return "[Desktop Entry]\nType=Application\nName=Kestrum\nComment=Backup jobs at their times\nExec=" +
         variable + quoted(program) + " agent\nTerminal=false\nNoDisplay=true\n";
}

}  // namespace kestrum
