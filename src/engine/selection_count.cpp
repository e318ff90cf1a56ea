#include "engine/selection_count.hpp"

#include "source/walk_ahead.hpp"

namespace kestrum {

SelectionCount count_selection(const WhatToSave& what, const People& people, Instant now, Observer& observer,
                               RunControl& control) {
  Selection selection = select(what, people, now, [](const std::string&) {});
  PreviewTally tally(selection);
  SelectionCount count;
  FilesystemTable filesystems;
  observer.phase_begins(Phase::scanning, {});
  WalkAhead walker(
      selection, filesystems, [&](const Problem&) { ++count.problems; }, [](const std::string&) {});
  while (const Walked* found = walker.next()) {
    control.checkpoint();
    if (!found->unlooked.empty()) {
      ++count.problems;
      continue;
    }
    PreviewItem item;
    bool content = S_ISREG(found->status.st_mode) || found->device;
    item.size = content ? static_cast<std::uint64_t>(found->status.st_size) : 0;
    tally.take(*found, item);
    if (content) observer.advanced(item.size, 1);
  }
  count.all = tally.all().all();
  count.sources = tally.by_source();
  count.categories = tally.by_category();
  return count;
}

}  // namespace kestrum
