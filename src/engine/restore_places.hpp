// Where each thing goes, below the target.
#pragma once

#include "engine/restore.hpp"

namespace kestrum {

// By the longest that fits; the first of two that say the same.
TreePath mapped_path(const TreePath& path, const std::vector<PathMap>& maps);

class RestorePlaces {
 public:
  // In place, what the job saved through a link that stands in the way now goes to where that leads: the
  // sources of the point are resolved here, once. Both must outlive this.
  RestorePlaces(const RestoreRequest& request, OpenPoint& point);

  TreePath of(const Entry& entry, const TreePath& picked) const;
  // Of a folder above what was picked, in place or with whole paths; nothing where its name is mapped away.
  std::optional<TreePath> of_ancestor(const TreePath& folder) const;

 private:
  const RestoreRequest& request_;
  std::vector<PathMap> maps_;
};

// Throws Error of kind usage where the target lies in one of the destinations: restored files have no place
// among archive sets.
void refuse_inside_destination(const std::vector<LookSession>& subjects, const RestoreRequest& request);

}  // namespace kestrum
