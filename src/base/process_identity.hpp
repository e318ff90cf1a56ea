// Which process one is, so that another one can tell later whether it is still there.
#pragma once

#include <sys/types.h>

#include <optional>
#include <string>

namespace kestrum {

// Of this start of the machine. Empty where the kernel does not tell.
std::string boot_id();
// Process numbers mean something within one space only: a container has its own.
std::string process_space();
// Clock ticks after boot at which the process started: tells a reused number from the old one. Empty when
// there is no such process.
std::string process_start(pid_t pid);

// Written where others find it: "BOOT SPACE PID START".
struct ProcessIdentity {
  std::string boot, space, start;
  pid_t pid = 0;

  static ProcessIdentity own();
  static std::optional<ProcessIdentity> parse(const std::string& text);
  std::string text() const;
  // Of this boot and these processes; another one's cannot be told.
  bool is_running() const;
};

}  // namespace kestrum
