// What is mounted where, as the kernel tells it (proc(5), /proc/PID/mountinfo).
#pragma once

#include <sys/types.h>

#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

struct Mount {
  dev_t device = 0;
  std::string root;    // what of the file system is shown: "/" for all of it
  std::string mount;   // where
  std::string type;    // "ext4"
  std::string source;  // "/dev/sda1"
  std::string super_options;
};

// What it shows lies on another machine.
bool is_network_file_system(std::string_view type);

std::vector<Mount> parse_mount_table(std::string_view text);
// Empty when /proc is not there.
std::vector<Mount> read_mount_table();

}  // namespace kestrum
