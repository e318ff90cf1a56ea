// Every thing that a restore brought back, in a file: whoever was given the files may want it in writing.
#pragma once

#include "engine/restore.hpp"
#include "tell/output_file.hpp"

namespace kestrum {

// By the ending of its name: .csv (RFC 4180, with a head: fate, bytes, sha256, point, path, placed; names as
// `printable` shows them) or .json (an array of the items of the document of `restore`).
class RestoreList {
 public:
  // Throws Error: usage for another ending, failed.
  explicit RestoreList(const std::string& path);
  void add(const RestoredItem& item);
  // The file is there from here on.
  void finish();

 private:
  bool json_;
  bool any_ = false;
  OutputFile file_;
};

}  // namespace kestrum
