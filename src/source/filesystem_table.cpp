#include "source/filesystem_table.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <array>
#include <cstdint>
#include <fstream>
#include <sstream>

#include "base/bytes.hpp"

#ifndef FS_IOC_GETFSUUID
// Linux 6.9; Debian 12's headers are older. ENOTTY from file systems and kernels that do not answer.
struct kestrum_fsuuid2 {
  std::uint8_t len;
  std::uint8_t uuid[16];
};
#define FS_IOC_GETFSUUID _IOR(0x15, 0, struct kestrum_fsuuid2)
#else
using kestrum_fsuuid2 = struct fsuuid2;
#endif

namespace kestrum {
namespace {

std::string uuid_of(int folder_fd) {
  kestrum_fsuuid2 answer{};
  if (ioctl(folder_fd, FS_IOC_GETFSUUID, &answer) != 0 || answer.len != 16) return {};
  if (std::all_of(answer.uuid, answer.uuid + 16, [](std::uint8_t byte) { return byte == 0; })) return {};
  std::string hex = to_hex({answer.uuid, 16});
  for (std::size_t at : {8u, 13u, 18u, 23u}) hex.insert(at, "-");
  return hex;
}

// mountinfo writes blanks and the like as \040.
std::string unescaped(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\\' && i + 3 < text.size()) {
      out += static_cast<char>(std::stoi(text.substr(i + 1, 3), nullptr, 8));
      i += 3;
    } else {
      out += text[i];
    }
  }
  return out;
}

}  // namespace

bool Filesystem::stable_inodes() const {
  static constexpr std::array<std::string_view, 11> unstable{
      "vfat", "msdos", "exfat", "fuse", "fuseblk", "nfs", "nfs4", "cifs", "smb3", "overlay", "9p"};
  return std::find(unstable.begin(), unstable.end(), type) == unstable.end() && !type.starts_with("fuse");
}

bool Filesystem::is_kernel_view() const {
  static constexpr std::array<std::string_view, 17> views{
      "proc", "sysfs",  "devtmpfs", "devpts", "cgroup",    "cgroup2",     "securityfs", "debugfs", "tracefs",
      "bpf",  "pstore", "configfs", "mqueue", "hugetlbfs", "binfmt_misc", "efivarfs",   "autofs"};
  return std::find(views.begin(), views.end(), type) != views.end();
}

Filesystem identify_filesystem(dev_t device, int folder_fd) {
  Filesystem found;
  found.uuid = uuid_of(folder_fd);
  std::string wanted = fmt::format("{}:{}", major(device), minor(device));
  std::ifstream mounts("/proc/self/mountinfo");
  std::string line;
  while (std::getline(mounts, line)) {
    std::istringstream fields(line);
    std::string id, parent, numbers, root, mount, word;
    fields >> id >> parent >> numbers >> root >> mount;
    if (numbers != wanted) continue;
    while (fields >> word && word != "-") {
    }
    fields >> found.type >> found.source;
    found.source = unescaped(found.source);
    found.mount = unescaped(mount);
    break;  // the first mount of a device is the one that stays when others bind to it
  }
  return found;
}

FilesystemTable::FilesystemTable(std::vector<Filesystem> known) : state_(std::make_unique<State>()) {
  state_->table.assign(known.begin(), known.end());
}

const Filesystem& FilesystemTable::at(std::uint32_t ordinal) const {
  std::lock_guard lock(state_->mutex);
  return state_->table.at(ordinal);
}

std::vector<Filesystem> FilesystemTable::all() const {
  std::lock_guard lock(state_->mutex);
  return {state_->table.begin(), state_->table.end()};
}

std::uint32_t FilesystemTable::ordinal(dev_t device, int folder_fd) {
  std::lock_guard lock(state_->mutex);
  auto known = state_->by_device.find(device);
  if (known != state_->by_device.end()) return known->second;
  std::deque<Filesystem>& table = state_->table;
  Filesystem found = identify_filesystem(device, folder_fd);
  auto same = std::find_if(table.begin(), table.end(), [&](const Filesystem& other) {
    if (!found.uuid.empty() || !other.uuid.empty()) return found.uuid == other.uuid;
    return found.type == other.type && found.source == other.source && found.mount == other.mount;
  });
  auto ordinal = static_cast<std::uint32_t>(same - table.begin());
  if (same == table.end()) table.push_back(found);
  state_->by_device[device] = ordinal;
  return ordinal;
}

}  // namespace kestrum
