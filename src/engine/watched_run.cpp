#include "engine/watched_run.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {

WatchGuide::WatchGuide(const RunContext& context, const std::string& job, const Selection& selection)
    : observer_(context.observer) {
  // What comes of age is told by nobody.
  if (context.start == 0 || selection.limits.oldest || selection.limits.newest) return;
  note_ = read_watch_note(context.home, job, context.start);
  if (note_ && note_->selection != selection_mark(selection)) note_.reset();
}

std::optional<WatchedRun> WatchGuide::onto(const DriveState& drive, const Id& base) {
  if (!note_ || doubted_) return std::nullopt;
  const auto known = std::find_if(drive.watched.begin(), drive.watched.end(), [&](const WatchedSet& set) {
    return set.set == base && set.watch == note_->changes.watch && set.selection == note_->selection;
  });
  if (known == drive.watched.end()) {
    observer_.note("everything is looked at: nobody watched since the set that this one builds on");
    return std::nullopt;
  }
  WatchedRun run;
  run.everything = note_->everything;
  run.told = note_->told;
  for (const auto& [folder, remembered] : note_->changes.folders) {
    if (remembered.period > known->period) run.changed.add(folder, remembered.change);
  }
  for (const TreePath& path : known->again) {
    run.changed.add(path, {FolderChange::How::whole, {}});
    run.changed.add(path.parent(), FolderChange::of_name(path.name()));
  }
  observer_.note(run.everything
                     ? "everything is looked at, as at each interval, and compared with what "
                       "watching has told"
                     : "only " + count_text(run.changed.size(), "folder") + " in which something happened " +
                           (run.changed.size() == 1 ? "is" : "are") + " looked at");
  return run;
}

void WatchGuide::doubt(const std::string& why) {
  observer_.note("everything is looked at: " + why);
  doubted_ = true;
}

void WatchGuide::remember(DriveState& drive, const Id& set, const std::optional<Id>& base,
                          const std::vector<TreePath>& again) const {
  std::erase_if(drive.watched, [&](const WatchedSet& one) { return !base || one.set != *base; });
  if (note_ && again.size() <= most_again)
    drive.watched.push_back({set, note_->changes.watch, note_->changes.period, note_->selection, again});
}

std::vector<TreePath> places_of(const std::vector<Problem>& problems) {
  std::vector<TreePath> places;
  for (const Problem& problem : problems) {
    const std::optional<TreePath> path =
        problem.path.starts_with('/') ? TreePath::parse(problem.path) : std::nullopt;
    if (path) places.push_back(*path);
  }
  std::sort(places.begin(), places.end());
  places.erase(std::unique(places.begin(), places.end()), places.end());
  return places;
}

}  // namespace kestrum
