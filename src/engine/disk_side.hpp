// What is on this machine's disk now, as a catalog would list it.
#pragma once

#include "archive/catalog_entry.hpp"
#include "base/run_control.hpp"
#include "source/walker.hpp"

namespace kestrum {

// The part of what a job takes that is `path` or lies below it; where no source of it reaches there: that
// path alone, with everything in it.
Selection narrowed(Selection selection, const TreePath& path);

class DiskSide {
 public:
  // `known`: of the point it is compared with. References must outlive this.
  DiskSide(const Selection& selection, const std::vector<Filesystem>& known, const TreePath& within,
           std::function<void(const Problem&)> problem);

  // The next thing, without content and extended attributes; nothing at the end.
  std::optional<Entry> next();
  // The file that `next` gave last, opened for reading; none when it cannot be.
  FileHandle open_last() const;

 private:
  FilesystemTable filesystems_;
  TreePath within_;
  Walker walker_;
  const Walked* last_ = nullptr;
};

}  // namespace kestrum
