#include "engine/restore_sink.hpp"

#include <algorithm>
#include <set>

#include "engine/restore_fate.hpp"

namespace kestrum {
namespace {

class DrySink final : public RestoreSink {
 public:
  explicit DrySink(RestoreState& state) : state_(state), view_(state.request.target) {}
  void leave(const TreePath&) override {}
  void folder(const Entry&, const TreePath&, bool) override {}
  void finish() override {}
  void leaf(const Entry& entry, const TreePath& place) override {
    LeafTask task = task_of(entry, state_);
    if (task == LeafTask::write_device) state_.done(entry, entry.path, RestoreFate::device);
    if (task != LeafTask::write) return;
    const TreePath wanted = place.parent().child(placed_name(entry, place));
    const Decided decided = decide(entry, wanted);
    const TreePath placed = wanted.parent().child(decided.placement.name);
    if (decided.fate != RestoreFate::kept && decided.fate != RestoreFate::same) taken_.insert(placed);
    state_.done(entry, placed, decided.fate);
  }

 private:
  // As it would be when the things before it were restored.
  Decided decide(const Entry& entry, const TreePath& wanted) {
    const std::string name(wanted.name());
    const int folder = view_.folder(wanted.parent());
    if (taken_.contains(wanted))
      return {RestoreFate::beside, {folder >= 0 ? name_beside(folder, name, state_.stamp) : name, false}};
    if (folder < 0) return {RestoreFate::put, {name, false}};
    return decide_placement(state_, entry, folder, name);
  }

  RestoreState& state_;
  TargetView view_;
  std::set<TreePath> taken_;
};

}  // namespace

LeafTask task_of(const Entry& entry, RestoreState& state) {
  if (entry.type == EntryType::socket) return LeafTask::nothing;
  bool has_data = std::any_of(entry.content.begin(), entry.content.end(),
                              [](const ContentItem& item) { return item.kind != ItemKind::hole; });
  if (entry.incomplete && !has_data && entry.size > 0) {
    state.problem(entry.path, "restore",
                  "it could not be read when the point was made: there is nothing to restore");
    return LeafTask::nothing;
  }
  if (entry.type != EntryType::device_image || !state.request.in_place) return LeafTask::write;
  if (!state.request.devices) {
    state.problem(
        entry.path, "restore",
        "it is the image of a device: restore it into a folder with --to, or write it back over the "
        "device with --devices");
    return LeafTask::nothing;
  }
  if (entry.incomplete) {
    state.problem(entry.path, "restore",
                  "the image is incomplete and is not written to the device; restore it into a folder with "
                  "--to");
    return LeafTask::nothing;
  }
  return LeafTask::write_device;
}

std::string placed_name(const Entry& entry, const TreePath& place) {
  return std::string(place.name()) + (entry.incomplete ? ".incomplete" : "");
}

std::unique_ptr<RestoreSink> dry_sink(RestoreState& state) {
  return std::make_unique<DrySink>(state);
}

}  // namespace kestrum
