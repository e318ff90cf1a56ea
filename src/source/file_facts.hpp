// Reading what belongs to a file besides its content: owner names, link targets, extended attributes.
#pragma once

#include <sys/types.h>

#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace kestrum {

// Names of users and groups, each asked once. Empty when the machine knows none.
class OwnerNames {
 public:
  const std::string& user(uid_t id);
  const std::string& group(gid_t id);

 private:
  std::map<uid_t, std::string> users_;
  std::map<gid_t, std::string> groups_;
};

// Nothing with errno on error.
std::optional<std::string> read_link_target(int folder_fd, const std::string& name);

// Name and value, sorted by name. Kept: user.*, trusted.* (root sees them), security.capability and the ACLs;
// other names belong to this machine's security policy and would not be taken elsewhere. `fd` may be any
// handle, also one opened with O_PATH. Nothing with errno on error; empty where the file system has none.
std::optional<std::vector<std::pair<std::string, std::string>>> read_extended_attributes(int fd);

}  // namespace kestrum
