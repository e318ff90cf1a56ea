#include "store/drive_facts.hpp"

#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstdlib>
#include <memory>

#include "base/error.hpp"
#include "base/mount_table.hpp"
#include "base/text.hpp"
#include "base/tree_path.hpp"
#include "store/disk_names.hpp"
#include "store/filesystem_names.hpp"
#include "store/private_mount.hpp"

namespace kestrum {
namespace {

bool one_of(std::string_view word, std::initializer_list<std::string_view> words) {
  return std::find(words.begin(), words.end(), word) != words.end();
}

// File systems of which the kernel, a sandbox or an installer is the owner, not a person.
bool is_systems_own(const Mount& mount) {
  return one_of(mount.type,
                {"proc",        "sysfs",           "devtmpfs",      "devpts",    "cgroup", "cgroup2",
                 "securityfs",  "debugfs",         "tracefs",       "bpf",       "pstore", "configfs",
                 "mqueue",      "hugetlbfs",       "binfmt_misc",   "efivarfs",  "autofs", "tmpfs",
                 "ramfs",       "squashfs",        "overlay",       "fusectl",   "nsfs",   "rpc_pipefs",
                 "fuse.portal", "fuse.gvfsd-fuse", "fuse.snapfuse", "fuse.lxcfs"}) ||
         mount.mount == "/boot" || mount.mount.starts_with("/boot/");
}

void set_largest_file(DriveFacts& facts) {
  if (one_of(facts.type, {"vfat", "msdos"})) facts.largest_file = (std::uint64_t{1} << 32) - 1;
  // FUSE says nothing of what stands behind it, and asking by making a large file can cost minutes.
  facts.largest_file_known = !facts.type.starts_with("fuse") || facts.type == "fuse.sshfs";
  if (!facts.largest_file_known) facts.largest_file = (std::uint64_t{1} << 31) - 1;
}

DriveFacts facts_of(const Mount& mount, dev_t device, const std::string& path) {
  DriveFacts facts;
  facts.device = device;
  facts.type = mount.type;
  facts.source = mount.source;
  facts.mount = mount.mount;
  FilesystemNames names = names_of_filesystem(mount);
  facts.label = names.label;
  facts.uuid = names.uuid;
  struct statvfs space {};
  if (statvfs(path.c_str(), &space) == 0) {
    facts.total = std::uint64_t{space.f_blocks} * space.f_frsize;
    facts.free = std::uint64_t{space.f_bavail} * space.f_frsize;
    facts.read_only = (space.f_flag & ST_RDONLY) != 0;
  }
  facts.network = is_network_file_system(facts.type);
  facts.memory = one_of(facts.type, {"tmpfs", "ramfs"});
  facts.disks = disks_of_filesystem(device);
  facts.removable = std::any_of(facts.disks.begin(), facts.disks.end(), is_removable_disk);
  set_largest_file(facts);
  return facts;
}

// The mount that shows a path: of those of its device, the one nearest above it.
Mount mount_of(const std::string& path, dev_t device) {
  std::optional<TreePath> wanted = TreePath::parse(path);
  Mount best;
  bool found = false;
  for (Mount& mount : read_mount_table()) {
    std::optional<TreePath> at = TreePath::parse(mount.mount);
    bool above = wanted && at && wanted->is_within(*at);
    if (mount.device != device || !above || (found && mount.mount.size() < best.mount.size())) continue;
    best = std::move(mount);
    found = true;
  }
  return best;
}

// Another mount may lie on top of it.
bool is_reachable(const Mount& mount) {
  struct stat status {};
  return stat(mount.mount.c_str(), &status) == 0 && status.st_dev == mount.device;
}

struct Found {
  std::string mount;
  dev_t device;
};

std::vector<Found> drives_named(bool by_label, const std::string& name, std::vector<std::string>& others) {
  std::vector<Found> found;
  for (const Mount& mount : read_mount_table()) {
    // Other machines' folders have no names, and a machine that is away would be waited for.
    if (is_systems_own(mount) || is_network_file_system(mount.type) || mount.root != "/" ||
        !is_reachable(mount))
      continue;
    if (std::any_of(found.begin(), found.end(), [&](const Found& one) { return one.device == mount.device; }))
      continue;
    FilesystemNames names = names_of_filesystem(mount);
    const std::string& own = by_label ? names.label : names.uuid;
    if (own == name) found.push_back({mount.mount, mount.device});
    if (!own.empty()) others.push_back(own);
  }
  return found;
}

}  // namespace

std::string DriveFacts::text() const {
  std::vector<std::string> parts;
  if (!label.empty()) parts.push_back(printable(label));
  parts.push_back(type.empty() ? "unknown file system" : type);
  parts.push_back(size_text(total));
  if (network) parts.emplace_back("on another machine");
  if (removable) parts.emplace_back("removable");
  if (memory) parts.emplace_back("in memory only");
  if (read_only) parts.emplace_back("read-only");
  if (largest_file && largest_file_known) parts.push_back("files of up to " + size_text(*largest_file));
  return join(parts, ", ");
}

DriveFacts drive_facts(const std::string& path) {
  std::unique_ptr<char, void (*)(void*)> real(realpath(path.c_str(), nullptr), std::free);
  struct stat status {};
  if (!real || stat(real.get(), &status) != 0) throw system_error("look at", path, errno);
  return facts_of(mount_of(real.get(), status.st_dev), status.st_dev, real.get());
}

bool share_disk(const DriveFacts& a, const DriveFacts& b) {
  if (a.device == b.device) return true;
  return std::any_of(a.disks.begin(), a.disks.end(),
                     [&](const std::string& disk) { return b.disks.contains(disk); });
}

std::vector<DriveFacts> possible_drives() {
  std::vector<DriveFacts> drives;
  for (const Mount& mount : read_mount_table()) {
    bool known = std::any_of(drives.begin(), drives.end(),
                             [&](const DriveFacts& drive) { return drive.device == mount.device; });
    if (known || is_systems_own(mount) || !is_reachable(mount)) continue;
    drives.push_back(facts_of(mount, mount.device, mount.mount));
  }
  return drives;
}

std::string others_may_write(const std::vector<std::string>& folders) {
  if (geteuid() != 0) return {};
  for (const std::string& folder : folders) {
    struct stat status {};
    if (lstat(folder.c_str(), &status) != 0) continue;
    bool group = (status.st_mode & S_IWGRP) != 0 && status.st_gid != 0;
    bool everybody = (status.st_mode & S_IWOTH) != 0;
    if (status.st_uid == 0 && !group && !everybody) continue;
    std::string shown = printable(folder);
    return shown +
           (status.st_uid != 0 ? " belongs to user " + std::to_string(status.st_uid)
                               : std::string(" may be written by others than root")) +
           ", who can remove or exchange the archive sets; unless that is meant: chown root " + shown +
           "; chmod go-w " + shown + " (a drive that knows no owners: mount it with uid=0,umask=077)";
  }
  return {};
}

// What to do about a drive that is not mounted.
static std::string how_to_get_it(const DestinationAddress& address, const std::vector<std::string>& others) {
  try {
    if (std::optional<std::string> device = device_of(address))
      return "it is plugged in as " + *device + " and only has to be mounted: mount " + *device + " /mnt";
  } catch (const Error&) {
    // Several of that name: which one is meant is for a person to say.
  }
  return "connect it and see that it is mounted" +
         (others.empty() ? std::string() : "; there are " + join(others, ", "));
}

std::string locate_destination(const DestinationAddress& address) {
  if (!address.names_drive()) return address.folder;
  bool by_label = address.by == DestinationAddress::By::label;
  const std::string& name = address.drive;
  std::vector<std::string> others;
  std::vector<Found> found = drives_named(by_label, name, others);
  std::string said = by_label ? "labelled '" + printable(name) + "'" : "with the UUID " + printable(name);
  if (found.empty())
    throw Error(ErrorKind::no_destination, "the drive " + said + " is not mounted on this machine",
                how_to_get_it(address, others));
  if (found.size() > 1) {
    throw Error(
        ErrorKind::no_destination,
        "two drives are " + said + ": at " + printable(found[0].mount) + " and " + printable(found[1].mount),
        "disconnect one, or name the drive by its UUID");
  }
  const std::string& mount = found[0].mount;
  return mount == "/" && !address.folder.empty() ? address.folder : mount + address.folder;
}

}  // namespace kestrum
