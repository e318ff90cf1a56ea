// The folder of a set that is being written.
#pragma once

#include "archive/set_folder.hpp"

namespace kestrum {

// Room for two seals of a large set, taken before the first frame.
inline constexpr std::uint64_t seal_reserve_bytes = 256u << 10;

// Made, or taken over, at once; cleared by the destructor unless it is kept. The store must outlive
// it.
class UnfinishedFolder {
 public:
  UnfinishedFolder(Store& store, std::string job_folder, const std::string& name);
  // One that a run before has left, under the name that it gets now.
  UnfinishedFolder(Store& store, std::string job_folder, const std::string& name, const SetFolder& left);
  ~UnfinishedFolder();
  UnfinishedFolder(const UnfinishedFolder&) = delete;
  UnfinishedFolder& operator=(const UnfinishedFolder&) = delete;
  const std::string& path() const { return path_; }
  bool kept() const { return kept_; }
  void keep() { kept_ = true; }
  void let_go() { kept_ = false; }

 private:
  Store& store_;
  std::string job_folder_;
  std::string path_;
  bool kept_ = false;
};

// Where the set lies once its seal is on the drive, whether or not its name was finished: from then on it is
// a set, whatever fails afterwards. Nothing while there is no seal; `folder` itself where that cannot be
// told.
std::optional<std::string> sealed_folder(const Store& store, const std::string& folder);

}  // namespace kestrum
