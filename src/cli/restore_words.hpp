// What a restore did, in words.
#pragma once

#include "cli/progress.hpp"
#include "engine/restore.hpp"

namespace kestrum {

// What was restored, one a line: as it comes where all are wanted, else at the end, and only as many as a
// person reads.
class FileList {
 public:
  FileList(bool all, Progress& progress) : all_(all), progress_(progress) {}
  void add(const RestoredItem& item);
  void print() const;

 private:
  static constexpr std::uint64_t most = 40;
  bool all_;
  Progress& progress_;
  std::uint64_t count_ = 0;
  std::string lines_;
};

// Its counts, a line each.
std::string result_text(const RestoreResult& result, const RestoreRequest& request, const std::string& drive);
// `drive`: the name of the one that the point is on. `all`: every problem.
void print_result(const RestoreResult& result, const RestoreRequest& request, const std::string& drive,
                  const FileList& list, bool all);
// What a person should know of how the files are now.
void print_notes(const RestoreResult& result, const RestoreRequest& request);

}  // namespace kestrum
