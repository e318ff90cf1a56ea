// What differs between two points, entry by entry.
#pragma once

#include "archive/catalog_merge.hpp"
#include "engine/look.hpp"

namespace kestrum {

enum class Differs { added, changed, attributes, gone, moved };
std::string_view change_word(Differs how);  // "new", "changed", "attributes", "gone", "moved"

struct ChangedFile {
  Differs how = Differs::added;
  Entry entry;
};

// One thing that is not the same on both sides.
struct Difference {
  Differs how = Differs::added;
  const Entry* before = nullptr;  // nullptr: added
  const Entry* now = nullptr;     // nullptr: gone
  const Entry& entry() const { return now != nullptr ? *now : *before; }
};
using OnDifference = std::function<void(const Difference&)>;

// How two states of one path differ; nothing: not at all. `same_names`: their chunks are named by one key;
// else content counts as the same where size and time are.
std::optional<Differs> difference(const Entry& before, const Entry& now, bool same_names);

struct DifferenceWays {
  TreePath within = {};                             // this and all below it
  std::function<void(CatalogMerge::Gap)> gap = {};  // of parts that do not read; none: damage is thrown
};
// Calls `use` for everything that is not the same in both, in order of the paths. Pages that both have in
// common are passed over unread. `older` may be nullptr: then everything is new. Returns how many pages were
// read.
std::uint64_t each_difference(OpenPoint* older, OpenPoint& newer, const DifferenceWays& ways,
                              RunControl& control, const OnDifference& use);

// What a run made of the point before: the differences of the point with that number from the one it was
// compared with, or, of a full set, from the one before it. Throws Error: usage when there is no such point
// any more.
void each_change_of(LookSession& session, Sequence sequence, RunControl& control, const OnDifference& use);

}  // namespace kestrum
