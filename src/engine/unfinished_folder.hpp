// The folder of a set that is being written.
#pragma once

#include "archive/job_folder.hpp"

namespace kestrum {

// Room for two seals of a large set, taken before the first frame.
inline constexpr std::uint64_t seal_reserve_bytes = 256u << 10;

// Made at once; cleared by the destructor unless `keep` was called. The store must outlive it.
class UnfinishedFolder {
 public:
  UnfinishedFolder(Store& store, std::string job_folder, const std::string& name);
  ~UnfinishedFolder();
  UnfinishedFolder(const UnfinishedFolder&) = delete;
  UnfinishedFolder& operator=(const UnfinishedFolder&) = delete;
  const std::string& path() const { return path_; }
  void keep() { done_ = true; }

 private:
  Store& store_;
  std::string job_folder_;
  std::string path_;
  bool done_ = false;
};

// True once the seal is on the drive: from then on the folder is a set, whatever fails afterwards.
bool is_sealed(const Store& store, const std::string& folder);

}  // namespace kestrum
