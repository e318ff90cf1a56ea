#include "source/filesystem_table.hpp"

#include <algorithm>
#include <array>

#include "base/filesystem_uuid.hpp"
#include "base/mount_table.hpp"

namespace kestrum {

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
  found.uuid = filesystem_uuid(folder_fd);
  // The first mount of a device is the one that stays when others bind to it.
  for (Mount& mount : read_mount_table()) {
    if (mount.device != device) continue;
    found.type = std::move(mount.type);
    found.source = std::move(mount.source);
    found.mount = std::move(mount.mount);
    break;
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
