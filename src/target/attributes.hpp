// Giving a restored file its owner, mode, attributes and times.
#pragma once

#include <map>
#include <optional>
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
  // Of the users asked for, those that this machine does not know, with the number that was taken.
  const std::map<std::string, std::uint32_t>& unknown() const { return unknown_; }

 private:
  std::map<std::string, std::uint32_t> unknown_;
  std::map<std::string, std::uint32_t> users_;
  std::map<std::string, std::uint32_t> groups_;
};

// An account of this machine, by its name or its number.
struct OwnerAccount {
  std::uint32_t user = 0;
  std::uint32_t group = 0;  // its own
};
std::optional<OwnerAccount> find_account(const std::string& name_or_number);
// "magnus"; empty when there is none of that number.
std::string account_name(std::uint32_t user);

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
