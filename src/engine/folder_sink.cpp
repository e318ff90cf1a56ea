// Restores into a folder: target/ does it safely, leaf_writer what is no folder.
#include "engine/leaf_writer.hpp"
#include "engine/restore_sink.hpp"

namespace kestrum {
namespace {

class FolderSink final : public RestoreSink {
 public:
  FolderSink(RestoreState& state, bool comes_back)
      : state_(state), target_(state.request.target, comes_back), leaves_(state, target_) {}

  // Folders get their attributes when the walk has left them: writing into one changes its time.
  void leave(const TreePath& next) override {
    while (!folders_.empty() && !next.is_within(folders_.back().place)) {
      OpenFolder done = std::move(folders_.back());
      folders_.pop_back();
      try {
        int folder = target_.folder(done.real);
        state_.apply(done.entry, {-1, {}, folder, false});
      } catch (const Error& error) {
        if (error.kind() == ErrorKind::damage) state_.result.damaged = true;
        state_.problem(done.entry.path, "set the attributes of", error.what());
      }
    }
  }

  // A folder that was there keeps its attributes, unless the person wants the state of the point.
  void folder(const Entry& entry, const TreePath& place, bool on_the_way) override {
    bool always_apply = !on_the_way && state_.request.clash == Clash::replace && !entry.above_source;
    RestoreTarget::Made made = target_.make_folder(place);
    if (!made.trouble.empty()) state_.problem(entry.path, "restore", made.trouble);
    if (made.created || always_apply) folders_.push_back({place, made.real, entry});
    if (made.created) state_.tell(entry, made.real, RestoreFate::put);
  }

  void leaf(const Entry& entry, const TreePath& place) override { leaves_.restore(entry, place); }

  void finish() override { target_.flush(state_.request.in_place); }

 private:
  struct OpenFolder {
    TreePath place;  // where it should be
    TreePath real;   // where it is
    Entry entry;
  };
  RestoreState& state_;
  RestoreTarget target_;
  LeafWriter leaves_;
  std::vector<OpenFolder> folders_;
};

}  // namespace

std::unique_ptr<RestoreSink> folder_sink(RestoreState& state, bool comes_back) {
  return std::make_unique<FolderSink>(state, comes_back);
}

}  // namespace kestrum
