// Counting what a preview finds: by verdict, and by source, category and top folder.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "engine/comparison.hpp"

namespace kestrum {

enum class Verdict { added, changed, attributes, held, gone, left_out };

struct FileCount {
  std::uint64_t files = 0;
  std::uint64_t bytes = 0;
  void add(std::uint64_t size) {
    ++files;
    bytes += size;
  }
};

struct VerdictCounts {
  FileCount added, changed, attributes, held;
  FileCount all() const {
    return {added.files + changed.files + attributes.files + held.files,
            added.bytes + changed.bytes + attributes.bytes + held.bytes};
  }
  // What a run would read.
  std::uint64_t read_bytes() const { return added.bytes + changed.bytes + attributes.bytes; }
  FileCount& of(Verdict verdict);
};

// One line of the list.
struct PreviewItem {
  Verdict verdict = Verdict::added;
  TreePath path;
  bool folder = false;
  std::uint64_t size = 0;
  std::string category;
  std::string why;       // of changed ones and of what is left out
  bool by_rule = false;  // it is left out by a pattern, which another one can take back
};

struct NamedCounts {
  std::string name;
  VerdictCounts counts;
};

struct LeftOutBy {
  std::string why;
  std::uint64_t things = 0;  // a folder counts as one, with all that is in it
  std::uint64_t bytes = 0;   // of files
};

class PreviewTally {
 public:
  static constexpr std::size_t most_largest = 10;
  explicit PreviewTally(const Selection& selection);
  void take(const Walked& found, const PreviewItem& item);
  void leave_out(const LeftOut& left, const PreviewItem& item);

  const VerdictCounts& all() const { return all_; }
  std::uint64_t folders() const { return folders_; }
  std::uint64_t others() const { return others_; }
  std::vector<NamedCounts> by_source() const { return sources_; }
  std::vector<NamedCounts> by_category() const;
  std::vector<NamedCounts> by_top_folder() const;  // most bytes first
  std::vector<PreviewItem> largest() const;        // largest first
  std::vector<LeftOutBy> left_out() const;         // most things first
  std::vector<std::string> idle_patterns() const;  // of the job's own rules: decided about nothing

 private:
  const Selection& selection_;
  VerdictCounts all_;
  std::uint64_t folders_ = 0, others_ = 0;
  std::vector<NamedCounts> sources_;
  std::size_t source_ = 0;  // the one the walk is in
  std::vector<VerdictCounts> categories_;
  std::map<std::string, VerdictCounts> top_folders_;
  std::multimap<std::uint64_t, PreviewItem> largest_;
  std::map<std::string, LeftOutBy> left_out_;
  std::vector<std::uint64_t> decided_;  // by each rule
};

const char* verdict_word(Verdict verdict);

}  // namespace kestrum
