// Giving a restored file its owner, mode, attributes and times.
#pragma once

#include <map>
#include <string>
#include <utility>
#include <vector>

#include "base/clock.hpp"

namespace kestrum {

struct FileAttributes {
  std::uint32_t mode = 0;
  std::uint32_t owner = 0;
  std::uint32_t group = 0;
  std::string owner_name;
  std::string group_name;
  bool give_owner = true;  // else whoever restores it keeps it
  Instant modified;
  std::vector<std::pair<std::string, std::string>> extended;
};

// Names of this machine win over numbers, so that files find their owner on another machine; each is asked
// once.
class OwnerNumbers {
 public:
  std::uint32_t user(const std::string& name, std::uint32_t number);
  std::uint32_t group(const std::string& name, std::uint32_t number);

 private:
  std::map<std::string, std::uint32_t> users_;
  std::map<std::string, std::uint32_t> groups_;
};

// One thing that could not be given to a file.
struct AttributeLoss {
  enum class What { look, owner, mode, attribute, time };
  What what = What::look;
  std::string name;    // of the extended attribute
  std::string reason;  // plain words
};

struct AttributeResult {
  // Another owner or group than it has: not root, or not to be given. Set-id bits are then left off too.
  bool owner_kept_back = false;
  std::vector<AttributeLoss> losses;
};

// What the object called `name` in the open folder is. Never follows a link. `fd`: a handle on it opened for
// reading or writing, or -1 for what must not be opened (links, FIFOs, devices).
struct TargetObject {
  int folder_fd = -1;
  std::string name;
  int fd = -1;
  bool is_link = false;
};
// Looks at the object again afterwards: some file systems take what they cannot keep without a word.
AttributeResult apply_attributes(const TargetObject& object, const FileAttributes& attributes,
                                 OwnerNumbers& owners);

}  // namespace kestrum
