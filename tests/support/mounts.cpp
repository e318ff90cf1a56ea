#include "support/mounts.hpp"

#include <gtest/gtest.h>
#include <sys/mount.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <thread>

namespace kestrum::test {

namespace fs = std::filesystem;

bool may_mount() {
  return geteuid() == 0 && access("/dev/fuse", R_OK | W_OK) == 0;
}

LoopDevice::LoopDevice(const std::string& file, const std::string& options) {
  FILE* out = popen(("losetup " + options + " --find --show '" + file + "' 2>/dev/null").c_str(), "r");
  char line[64] = {};
  if (fgets(line, sizeof line, out) != nullptr)
    path_ = std::string(line).substr(0, std::string(line).find('\n'));
  pclose(out);
}

void LoopDevice::detach() {
  if (path_.empty()) return;
  EXPECT_EQ(std::system(("losetup -d " + path_).c_str()), 0);
  // While somebody else looks at it (for labels, say) it only goes when they have done.
  std::string size = "/sys/block/" + path_.substr(path_.rfind('/') + 1) + "/size";
  for (int tries = 0; tries < 200; ++tries) {
    std::uintmax_t sectors = 0;
    std::ifstream(size) >> sectors;
    if (sectors == 0) break;
    std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  path_.clear();
}

Mounted::Mounted(const std::string& what, const std::string& folder, const std::string& options)
    : folder_(folder) {
  fs::create_directories(folder);
  good_ = std::system(("mount " + options + " '" + what + "' '" + folder + "'").c_str()) == 0;
}

void Mounted::take_down() {
  if (good_) {
    EXPECT_EQ(umount2(folder_.c_str(), MNT_DETACH), 0);
  }
  good_ = false;
}

void make_ext4_image(const std::string& file, unsigned mib, const std::string& label,
                     const std::string& uuid) {
  std::ofstream(file).close();
  fs::resize_file(file, std::uintmax_t{mib} << 20);
  std::string command =
      "mkfs.ext4 -q -F -L '" + label + "' " + (uuid.empty() ? "" : "-U " + uuid + " ") + "'" + file + "'";
  EXPECT_EQ(std::system(command.c_str()), 0);
}

FatRules::FatRules(const std::string& backing, const std::string& folder, const std::string& largest)
    : folder_(folder) {
  fs::create_directories(backing);
  fs::create_directories(folder_);
  struct stat before {};
  stat(folder_.c_str(), &before);
  child_ = fork();
  if (child_ == 0) {
    execl(KESTRUM_FAT_RULES, KESTRUM_FAT_RULES, backing.c_str(), folder_.c_str(), largest.c_str(), nullptr);
    _exit(127);
  }
  for (int i = 0; i < 500 && !mounted_; ++i) {
    struct stat now {};
    mounted_ = stat(folder_.c_str(), &now) == 0 && now.st_dev != before.st_dev;
    if (!mounted_) std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
}

FatRules::~FatRules() {
  if (mounted_) umount2(folder_.c_str(), MNT_DETACH);
  kill(child_, SIGTERM);
  waitpid(child_, nullptr, 0);
}

}  // namespace kestrum::test
