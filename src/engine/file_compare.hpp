// Two states of one file held against each other: the lines that differ, or what can be said of others.
#pragma once

#include "engine/tree_compare.hpp"

namespace kestrum {

struct FileSide {
  bool there = false;
  EntryType type = EntryType::file;
  std::uint64_t size = 0;
  Instant modified;
  std::string sha256;  // of its content, hexadecimal (FIPS 180-4); empty where it was not read
};

struct ChangedLine {
  enum class How { same, removed, added } how = How::same;
  std::uint64_t before = 0, now = 0;  // its numbers on both sides, from 1; 0 where it is not there
  std::string text;                   // without the line's end
};

struct FileComparison {
  FileSide before, now;
  bool same = false;               // content
  bool text = false;               // both are text: `lines` tells what differs
  std::vector<ChangedLine> lines;  // with two lines around each change
};

// Of at most four MiB, in letters that a screen shows.
bool is_plain_text(OpenPoint& point, const Entry& entry);

// What is compared is text of at most four MiB in at most 100,000 lines; of anything else the digests are
// told. Throws Error: damage, failed where a side does not read.
FileComparison compare_file_points(OpenPoint& a, OpenPoint& b, const TreePath& path, RunControl& control);
FileComparison compare_file_disk(OpenPoint& a, const TreePath& path, RunControl& control);

}  // namespace kestrum
