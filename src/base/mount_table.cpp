#include "base/mount_table.hpp"

#include <sys/sysmacros.h>

#include <algorithm>
#include <array>
#include <fstream>
#include <sstream>

#include "base/text.hpp"

namespace kestrum {
namespace {

// Blanks and the like are written as \040.
std::string unescaped(const std::string& text) {
  std::string out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '\\' && i + 3 < text.size()) {
      int value = 0;
      for (std::size_t k = 1; k <= 3; ++k) value = value * 8 + (text[i + k] - '0');
      out += static_cast<char>(value);
      i += 3;
    } else {
      out += text[i];
    }
  }
  return out;
}

}  // namespace

bool is_network_file_system(std::string_view type) {
  static constexpr std::array<std::string_view, 14> types{
      "nfs",  "nfs4",      "cifs",           "smb3",       "smbfs",      "ncpfs", "afs",
      "ceph", "glusterfs", "fuse.glusterfs", "fuse.sshfs", "fuse.davfs", "davfs", "9p"};
  return std::find(types.begin(), types.end(), type) != types.end();
}

std::vector<Mount> parse_mount_table(std::string_view text) {
  std::vector<Mount> mounts;
  for (const std::string& line : split(text, '\n')) {
    std::istringstream fields(line);
    std::string id, parent, word;
    Mount mount;
    unsigned major_number = 0, minor_number = 0;
    char colon = 0;
    fields >> id >> parent >> major_number >> colon >> minor_number >> mount.root >> mount.mount;
    while (fields >> word && word != "-") {
    }
    if (!(fields >> mount.type >> mount.source) || colon != ':') continue;
    fields >> mount.super_options;
    mount.device = makedev(major_number, minor_number);
    mount.root = unescaped(mount.root);
    mount.mount = unescaped(mount.mount);
    mount.source = unescaped(mount.source);
    mounts.push_back(std::move(mount));
  }
  return mounts;
}

std::vector<Mount> read_mount_table() {
  // Of this thread: one may see mounts that others do not.
  std::ifstream file("/proc/thread-self/mountinfo");
  std::ostringstream text;
  text << file.rdbuf();
  return parse_mount_table(text.str());
}

}  // namespace kestrum
