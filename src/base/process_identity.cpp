#include "base/process_identity.hpp"

#include <unistd.h>

#include <charconv>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "base/text.hpp"

namespace kestrum {

std::string boot_id() {
  std::ifstream file("/proc/sys/kernel/random/boot_id");
  std::string id;
  std::getline(file, id);
  return id;
}

std::string process_space() {
  std::error_code code;
  return std::filesystem::read_symlink("/proc/self/ns/pid", code).string();
}

std::string process_start(pid_t pid) {
  std::ifstream file("/proc/" + std::to_string(pid) + "/stat");
  std::string text;
  std::getline(file, text);
  std::size_t end = text.rfind(')');
  if (end == std::string::npos) return {};
  std::istringstream fields(text.substr(end + 1));
  std::string field;
  fields >> field;
  if (field == "Z" || field == "X") return {};  // ended, and only waits to be looked at
  for (int i = 1; i < 20 && (fields >> field); ++i) {
  }
  return field;
}

ProcessIdentity ProcessIdentity::own() {
  return {boot_id(), process_space(), process_start(getpid()), getpid()};
}

std::optional<ProcessIdentity> ProcessIdentity::parse(const std::string& text) {
  const std::vector<std::string> parts = split(text, ' ');
  if (parts.size() != 4) return std::nullopt;
  ProcessIdentity process{parts[0], parts[1], parts[3], 0};
  const std::string& number = parts[2];
  auto [end, code] = std::from_chars(number.data(), number.data() + number.size(), process.pid);
  if (code != std::errc() || end != number.data() + number.size() || process.pid <= 0) return std::nullopt;
  return process;
}

std::string ProcessIdentity::text() const {
  return boot + " " + space + " " + std::to_string(pid) + " " + start;
}

bool ProcessIdentity::is_running() const {
  return pid > 0 && !start.empty() && boot == boot_id() && space == process_space() &&
         process_start(pid) == start;
}

}  // namespace kestrum
