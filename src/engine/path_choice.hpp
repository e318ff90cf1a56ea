// What is picked of a tree: things with all that is in them, and what is taken out of these again.
#pragma once

#include <map>
#include <vector>

#include "archive/catalog_reader.hpp"

namespace kestrum {

// A mark speaks of what it is put on and of all below; the nearest one at or above a thing decides.
class PathChoice {
 public:
  PathChoice() = default;
  PathChoice(const std::vector<TreePath>& taken, const std::vector<TreePath>& left_out);

  // Marks below it are forgotten.
  void take(const TreePath& path) { mark(path, true); }
  void leave_out(const TreePath& path) { mark(path, false); }

  bool holds(const TreePath& path) const;
  // Something below it is held otherwise than it is itself.
  bool differs_below(const TreePath& path) const;
  bool empty() const { return marks_.empty(); }
  bool takes_out() const { return !left_out().empty(); }

  // The marks, in the order of a catalog.
  std::vector<TreePath> taken() const { return marked(true); }
  std::vector<TreePath> left_out() const { return marked(false); }
  const std::map<TreePath, bool>& marks() const { return marks_; }

 private:
  void mark(const TreePath& path, bool taken);
  std::vector<TreePath> marked(bool taken) const;
  bool above(const TreePath& path) const;
  std::map<TreePath, bool> marks_;
};

// How much that is. Reads the pages at the ends of what is marked, and none between.
CatalogReader::Below chosen_sum(CatalogReader catalog, const PathChoice& choice);

}  // namespace kestrum
