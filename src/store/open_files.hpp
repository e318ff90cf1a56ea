// The files that readers of one store have open.
#pragma once

#include <functional>
#include <list>
#include <memory>
#include <mutex>
#include <unordered_map>

#include "base/file_handle.hpp"

namespace kestrum {

// Few at a time, however many readers there are; the others are opened again when they are read. Any thread.
class OpenFiles {
 public:
  using Open = std::function<FileHandle()>;

  // The file of that reader; `open` opens it again where it was closed. Closed when nobody reads from it.
  std::shared_ptr<const FileHandle> get(const void* reader, const Open& open);
  std::shared_ptr<const FileHandle> put(const void* reader, FileHandle file);
  void forget(const void* reader);
  void close_all();

 private:
  struct OpenFile {
    const void* reader;
    std::shared_ptr<const FileHandle> file;
  };
  const std::size_t most_ = open_files_share(256);
  std::mutex mutex_;
  std::list<OpenFile> files_;  // the one used last is the first
  std::unordered_map<const void*, std::list<OpenFile>::iterator> by_reader_;
};

}  // namespace kestrum
