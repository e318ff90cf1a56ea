#include "store/filesystem_names.hpp"

#include <blkid/blkid.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <memory>

#include "base/file_handle.hpp"
#include "base/filesystem_uuid.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

std::string label_from_kernel(int folder_fd) {
  char label[FSLABEL_MAX] = {};
  return ioctl(folder_fd, FS_IOC_GETFSLABEL, label) == 0 ? std::string(label, strnlen(label, sizeof label))
                                                         : "";
}

// The device manager writes characters that do not suit a name as \x20.
std::string unescaped(const std::string& name) {
  std::string out;
  for (std::size_t i = 0; i < name.size(); ++i) {
    if (name[i] == '\\' && i + 3 < name.size() && name[i + 1] == 'x') {
      out += static_cast<char>(std::stoi(name.substr(i + 2, 2), nullptr, 16));
      i += 3;
    } else {
      out += name[i];
    }
  }
  return out;
}

std::string name_from_links(const char* folder, dev_t device) {
  std::error_code none;
  for (const fs::directory_entry& link : fs::directory_iterator(folder, none)) {
    struct stat status {};
    if (stat(link.path().c_str(), &status) == 0 && S_ISBLK(status.st_mode) && status.st_rdev == device)
      return unescaped(link.path().filename());
  }
  return {};
}

// Only who may read the device gets an answer.
void read_superblock(const std::string& node, FilesystemNames& names) {
  std::unique_ptr<blkid_struct_probe, void (*)(blkid_probe)> probe(
      blkid_new_probe_from_filename(node.c_str()), blkid_free_probe);
  if (!probe) return;
  blkid_probe_enable_superblocks(probe.get(), 1);
  blkid_probe_set_superblocks_flags(probe.get(), BLKID_SUBLKS_LABEL | BLKID_SUBLKS_UUID);
  if (blkid_do_safeprobe(probe.get()) != 0) return;
  const char* value = nullptr;
  if (names.label.empty() && blkid_probe_lookup_value(probe.get(), "LABEL", &value, nullptr) == 0)
    names.label = value;
  if (names.uuid.empty() && blkid_probe_lookup_value(probe.get(), "UUID", &value, nullptr) == 0)
    names.uuid = value;
}

// The block device that is mounted; 0 when it is none.
dev_t device_behind(const Mount& mount) {
  if (major(mount.device) != 0) return mount.device;
  struct stat status {};
  bool block = mount.source.starts_with("/dev/") && stat(mount.source.c_str(), &status) == 0 &&
               S_ISBLK(status.st_mode);
  return block ? status.st_rdev : 0;
}

}  // namespace

FilesystemNames names_of_filesystem(const Mount& mount) {
  FilesystemNames names;
  if (FileHandle folder(open(mount.mount.c_str(), O_RDONLY | O_DIRECTORY | O_NONBLOCK | O_CLOEXEC)); folder) {
    names.label = label_from_kernel(folder.get());
    names.uuid = filesystem_uuid(folder.get());
  }
  if (dev_t device = device_behind(mount); device != 0 && (names.label.empty() || names.uuid.empty())) {
    if (names.label.empty()) names.label = name_from_links("/dev/disk/by-label", device);
    if (names.uuid.empty()) names.uuid = name_from_links("/dev/disk/by-uuid", device);
    if (names.label.empty() || names.uuid.empty()) read_superblock(mount.source, names);
  }
  std::transform(names.uuid.begin(), names.uuid.end(), names.uuid.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return names;
}

FilesystemNames names_on_device(const std::string& node) {
  FilesystemNames names;
  read_superblock(node, names);
  std::transform(names.uuid.begin(), names.uuid.end(), names.uuid.begin(),
                 [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
  return names;
}

}  // namespace kestrum
