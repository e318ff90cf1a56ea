// What a point holds, held against what is on this machine's disk now. Reads no file.
#pragma once

#include "archive/catalog_entry.hpp"
#include "target/target_view.hpp"

namespace kestrum {

enum class Today {
  unknown,  // the point is of another machine, or it cannot be told
  same,     // of a file: its size and time of modification are
  differs,
  gone,
};
std::string_view today_word(Today today);  // "unknown", "same", "different", "gone"

class DiskToday {
 public:
  // `here`: the points are of this machine.
  explicit DiskToday(bool here);
  // Links in its path are not followed: behind one it counts as gone.
  Today look(const Entry& entry);
  // The file that is there now, for reading; none where it cannot be opened.
  FileHandle open(const Entry& entry);
  // What is there: nothing, a folder or something else.
  enum class There { nothing, folder, other };
  There there(const TreePath& path);

 private:
  std::optional<TargetView> view_;
};

}  // namespace kestrum
