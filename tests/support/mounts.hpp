// Drives for tests: loop devices, file systems on them, bind mounts, the FAT-rules file system. All need
// root; each is gone with its object.
#pragma once

#include <sys/types.h>

#include <string>

namespace kestrum::test {

bool may_mount();  // root, with /dev/fuse

// A loop device over a file; `path` is empty when none is to be had.
class LoopDevice {
 public:
  explicit LoopDevice(const std::string& file, const std::string& options = {});
  ~LoopDevice() { detach(); }
  LoopDevice(const LoopDevice&) = delete;
  LoopDevice& operator=(const LoopDevice&) = delete;
  void detach();
  const std::string& path() const { return path_; }

 private:
  std::string path_;
};

// `what` mounted at a folder that is made if need be.
class Mounted {
 public:
  Mounted(const std::string& what, const std::string& folder, const std::string& options = {});
  ~Mounted() { take_down(); }
  Mounted(const Mounted&) = delete;
  Mounted& operator=(const Mounted&) = delete;
  bool good() const { return good_; }
  void take_down();

 private:
  std::string folder_;
  bool good_ = false;
};

// Makes a file of `mib` MiB that holds an empty ext4.
void make_ext4_image(const std::string& file, unsigned mib, const std::string& label,
                     const std::string& uuid = {});

// The FAT-rules file system (support/fs) over a folder.
class FatRules {
 public:
  // `largest`: bytes of the largest file it takes.
  FatRules(const std::string& backing, const std::string& folder, const std::string& largest = "4294967295");
  ~FatRules();
  bool mounted() const { return mounted_; }
  std::string path(const std::string& name) const { return folder_ + "/" + name; }
  const std::string& folder() const { return folder_; }

 private:
  std::string folder_;
  pid_t child_ = -1;
  bool mounted_ = false;
};

}  // namespace kestrum::test
