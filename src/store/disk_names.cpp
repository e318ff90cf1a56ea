#include "store/disk_names.hpp"

#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <climits>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "base/mount_table.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

std::string first_line(const std::string& path) {
  std::ifstream file(path);
  std::string line;
  std::getline(file, line);
  return line;
}

void add_disks(dev_t device, std::set<std::string>& disks, int depth);

void add_filesystem_disks(dev_t device, std::set<std::string>& disks, int depth) {
  if (major(device) != 0) {
    add_disks(device, disks, depth);
    return;
  }
  // No device of its own: what the mount table names as its origin.
  for (const Mount& mount : read_mount_table()) {
    if (mount.device != device) continue;
    struct stat status {};
    constexpr std::string_view upper = "upperdir=";
    std::size_t at = mount.type == "overlay" ? mount.super_options.find(upper) : std::string::npos;
    if (at != std::string::npos) {
      at += upper.size();
      std::string folder = mount.super_options.substr(at, mount.super_options.find(',', at) - at);
      if (stat(folder.c_str(), &status) == 0 && status.st_dev != device)
        add_filesystem_disks(status.st_dev, disks, depth + 1);
    } else if (mount.source.starts_with('/') && stat(mount.source.c_str(), &status) == 0) {
      if (S_ISBLK(status.st_mode)) {
        add_disks(status.st_rdev, disks, depth + 1);
      } else if (status.st_dev != device) {
        add_filesystem_disks(status.st_dev, disks, depth + 1);  // a FUSE file system over a folder
      }
    }
    return;
  }
}

void add_disks(dev_t device, std::set<std::string>& disks, int depth) {
  constexpr int deepest = 16;  // against loops through loop devices
  if (depth > deepest) return;
  std::error_code none;
  fs::path here = fs::canonical(
      "/sys/dev/block/" + std::to_string(major(device)) + ":" + std::to_string(minor(device)), none);
  if (none) return;
  if (fs::exists(here / "partition", none)) here = here.parent_path();
  std::string file = first_line(here / "loop/backing_file");
  struct stat status {};
  if (!file.empty() && stat(file.c_str(), &status) == 0) {
    std::size_t before = disks.size();
    add_filesystem_disks(status.st_dev, disks, depth + 1);
    if (disks.size() > before) return;
  }
  bool composed = false;
  for (const fs::directory_entry& part : fs::directory_iterator(here / "slaves", none)) {
    unsigned major_number = 0, minor_number = 0;
    if (std::sscanf(first_line(part.path() / "dev").c_str(), "%u:%u", &major_number, &minor_number) != 2)
      continue;
    add_disks(makedev(major_number, minor_number), disks, depth + 1);
    composed = true;
  }
  if (!composed) disks.insert(here.filename());
}

}  // namespace

std::set<std::string> disks_of_device(dev_t block_device) {
  std::set<std::string> disks;
  add_disks(block_device, disks, 0);
  return disks;
}

std::set<std::string> disks_of_filesystem(dev_t device) {
  std::set<std::string> disks;
  add_filesystem_disks(device, disks, 0);
  return disks;
}

bool is_removable_disk(const std::string& name) {
  if (first_line("/sys/block/" + name + "/removable") == "1") return true;
  std::error_code none;
  return fs::canonical("/sys/block/" + name, none).string().find("/usb") != std::string::npos;
}

}  // namespace kestrum
