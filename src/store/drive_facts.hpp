// What kind of place a folder is to keep archive sets in: its file system, its drive, and whether that is the
// drive of something else.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "base/destination_address.hpp"

namespace kestrum {

struct DriveFacts {
  dev_t device = 0;
  std::string type;                   // of the file system: "ext4"; empty when not known
  std::string source;                 // what is mounted: "/dev/sda1"
  std::string mount;                  // where
  std::string label, uuid;            // empty when there is none, or it cannot be told
  std::uint64_t total = 0, free = 0;  // bytes; free for this user
  bool read_only = false;
  bool removable = false;                     // by itself, or plugged in by USB
  bool network = false;                       // on another machine
  bool memory = false;                        // gone when the machine is switched off
  std::optional<std::uint64_t> largest_file;  // bytes, where that is little enough to matter
  bool largest_file_known = true;             // false: nothing tells how large a file may be
  std::set<std::string> disks;  // the physical disks it lies on, by the kernel's names; empty: not known

  // "tern-1, ext4, 931.5 GiB, removable"
  std::string text() const;
};

// Of the file system that the path lies on. Throws Error of kind failed when it cannot be looked at.
DriveFacts drive_facts(const std::string& path);

// Both on one file system, or on parts of one disk. False when nothing is known.
bool share_disk(const DriveFacts& a, const DriveFacts& b);

// Mounted file systems that could take archive sets, each once: on drives or other machines, writable or not;
// not those of the system itself (/boot and its like).
std::vector<DriveFacts> possible_drives();

// As root: somebody else owns one of these folders, or may write it, and so can remove or exchange what root
// keeps there. In one sentence, with what puts it right; empty when nobody can, and for ordinary users.
std::string others_may_write(const std::vector<std::string>& folders);

// Where a destination is on this machine now. Looks at the mounted file systems for a drive; a path is given
// back as it is, whether it is there or not. Throws Error of kind no_destination: the drive is not mounted,
// or several are of that name.
std::string locate_destination(const DestinationAddress& address);

}  // namespace kestrum
