// Device numbers change between boots, so entries hold an ordinal into a table of file systems.
#pragma once

#include <sys/types.h>

#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

namespace kestrum {

struct Filesystem {
  std::string uuid;    // lower-case with dashes; empty when there is none
  std::string type;    // "ext4"
  std::string source;  // what is mounted
  std::string mount;   // where

  // FAT, FUSE, network and overlay file systems give out inode numbers anew.
  bool stable_inodes() const;
  // Not on a drive: /proc and its like. Nothing of it is saved.
  bool is_kernel_view() const;
};

// Asks the kernel about each device once. `known` is the table of the set compared with: the same file system
// keeps its ordinal. Any number of threads; references stay good.
class FilesystemTable {
 public:
  explicit FilesystemTable(std::vector<Filesystem> known = {});
  // `folder_fd`: an open folder on that device.
  std::uint32_t ordinal(dev_t device, int folder_fd);
  const Filesystem& at(std::uint32_t ordinal) const;
  std::vector<Filesystem> all() const;

 private:
  struct State {
    std::mutex mutex;
    std::deque<Filesystem> table;
    std::map<dev_t, std::uint32_t> by_device;
  };
  std::unique_ptr<State> state_;
};

// The file system that the open folder lies on.
Filesystem identify_filesystem(dev_t device, int folder_fd);

}  // namespace kestrum
