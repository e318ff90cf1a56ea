// What differs between two points of one drive.
#pragma once

#include "engine/look.hpp"

namespace kestrum {

enum class Differs { added, changed, attributes, gone };
std::string_view change_word(Differs how);  // "new", "changed", "attributes", "gone"

struct ChangedFile {
  Differs how = Differs::added;
  Entry entry;
};

// Calls `use` for everything that is not the same in both, in order of the paths; with the newer entry, of
// what is gone with the older one. `older` may be nullptr: then everything is new. Throws Error of kind
// damage.
void each_difference(OpenPoint* older, OpenPoint& newer, RunControl& control,
                     const std::function<void(Differs, const Entry&)>& use);

// What a run made of the point before: the differences of the point with that number from the one it was
// compared with, or, of a full set, from the one before it. Throws Error: usage when there is no such point
// any more.
void each_change_of(LookSession& session, Sequence sequence, RunControl& control,
                    const std::function<void(Differs, const Entry&)>& use);

}  // namespace kestrum
