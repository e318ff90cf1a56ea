#include "store/open_files.hpp"

namespace kestrum {

std::shared_ptr<const FileHandle> OpenFiles::get(const void* reader, const Open& open) {
  {
    std::lock_guard lock(mutex_);
    if (auto found = by_reader_.find(reader); found != by_reader_.end()) {
      files_.splice(files_.begin(), files_, found->second);
      return files_.front().file;
    }
  }
  return put(reader, open());
}

std::shared_ptr<const FileHandle> OpenFiles::put(const void* reader, FileHandle file) {
  auto shared = std::make_shared<const FileHandle>(std::move(file));
  std::lock_guard lock(mutex_);
  // Another thread may have been first.
  if (auto found = by_reader_.find(reader); found != by_reader_.end()) return found->second->file;
  files_.push_front({reader, shared});
  by_reader_[reader] = files_.begin();
  while (files_.size() > most_) {
    by_reader_.erase(files_.back().reader);
    files_.pop_back();
  }
  return shared;
}

void OpenFiles::forget(const void* reader) {
  std::lock_guard lock(mutex_);
  auto found = by_reader_.find(reader);
  if (found == by_reader_.end()) return;
  files_.erase(found->second);
  by_reader_.erase(found);
}

void OpenFiles::close_all() {
  std::lock_guard lock(mutex_);
  by_reader_.clear();
  files_.clear();
}

}  // namespace kestrum
