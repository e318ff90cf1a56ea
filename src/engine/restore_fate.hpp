// What becomes of one thing in a restore, done or only planned: decided in one place for both.
#pragma once

#include <map>

#include "engine/restore_state.hpp"
#include "target/target_view.hpp"

namespace kestrum {

struct Decided {
  RestoreFate fate = RestoreFate::put;
  Placement placement;
};

// For something that is to be put under a name that something else had before the restore; `folder`: open.
// Where both are to be kept, what is identical there stays alone.
Decided decide_placement(RestoreState& state, const Entry& entry, int folder, const std::string& name);

// The room that a restore needs where it writes, file system by file system. What may turn out to be
// identical is not counted, so that no restore is refused that would have fitted.
class RoomNeeded {
 public:
  RoomNeeded(RestoreState& state, const std::string& target) : state_(state), view_(target) {}
  // A file that would be put at `place`, below the target. What stands in its way is told when it is
  // restored.
  void add(const Entry& entry, const TreePath& place);
  // The file system that lacks the most, or, where none does, has the least left.
  std::optional<RestoreRoom> tightest() const;

 private:
  RestoreRoom* room_at(int folder);  // nullptr when it cannot be told
  std::uint64_t bytes_for(const Entry& entry, int folder, const std::string& name);
  RestoreState& state_;
  TargetView view_;
  std::map<std::uint64_t, RestoreRoom> rooms_;  // by device
};

}  // namespace kestrum
