// A drive that is plugged in and not mounted, mounted for one run only.
#pragma once

#include <optional>
#include <string>

#include "base/destination_address.hpp"
#include "base/file_handle.hpp"

namespace kestrum {

// The block device of that label or UUID, mounted or not; nothing when it is not plugged in, or for who may
// not read devices. Throws Error of kind no_destination when there are several.
std::optional<std::string> device_of(const DestinationAddress& address);

// Mounted where only this thread and those that it starts see it: no other program can reach it, and it is
// gone with the process, however that ends. Needs root.
class PrivateMount {
 public:
  // `folder`: made if need be. Throws Error of kind no_destination.
  PrivateMount(const std::string& device, const std::string& folder);
  ~PrivateMount();
  PrivateMount(const PrivateMount&) = delete;
  PrivateMount& operator=(const PrivateMount&) = delete;
  // Throws Error of kind failed when something still uses it.
  void end();

 private:
  void leave();
  std::string folder_;
  FileHandle before_;  // what this thread saw before
};

}  // namespace kestrum
