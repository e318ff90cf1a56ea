// What has the system start the agent.
#pragma once

#include <string>

namespace kestrum {

// A unit of systemd (systemd.service(5)). `program`: absolute. `home`: what KESTRUM_HOME says; empty:
// nothing.
std::string agent_unit(bool of_machine, const std::string& program, const std::string& home);
// An entry for desktops that start what lies in their autostart folder (Desktop Application Autostart).
std::string agent_autostart(const std::string& program, const std::string& home);

inline constexpr const char* agent_unit_name = "kestrum-agent.service";
inline constexpr const char* agent_autostart_name = "kestrum-agent.desktop";

}  // namespace kestrum
