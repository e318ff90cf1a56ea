#include "engine/restore.hpp"

#include <algorithm>
#include <set>

#include "base/text.hpp"
#include "engine/restore_fate.hpp"
#include "engine/restore_sink.hpp"

namespace kestrum {
namespace {

// What is picked, each once: what lies inside a picked folder is not restored twice.
std::vector<TreePath> reduced(std::vector<TreePath> paths) {
  std::sort(paths.begin(), paths.end());
  std::vector<TreePath> out;
  for (TreePath& path : paths) {
    if (out.empty() || !path.is_within(out.back())) out.push_back(std::move(path));
  }
  return out;
}

// Two of what is picked go into one folder: it may be left and come to again.
bool share_a_name(const std::vector<TreePath>& picked) {
  std::set<std::string_view> names;
  return !std::all_of(picked.begin(), picked.end(),
                      [&](const TreePath& path) { return names.insert(path.name()).second; });
}

class Restorer {
 public:
  Restorer(OpenPoint& point, const RestoreRequest& request, Observer& observer, RunControl& control,
           const std::function<void(const RestoredItem&)>& item)
      : state_(point, request, observer, control, item),
        point_(point),
        request_(request),
        observer_(observer),
        control_(control) {}

  RestoreResult run() {
    std::vector<TreePath> picked;
    for (const WantedPath& path : request_.paths) picked.push_back(path_in(point_, path));
    picked = reduced(std::move(picked));
    const PhaseTotals totals = survey(picked);
    sink_ = request_.dry ? dry_sink(state_) : folder_sink(state_, share_a_name(picked));
    observer_.phase_begins(Phase::restoring, totals);
    for (const TreePath& path : picked) restore_tree(path);
    sink_->leave(TreePath());
    sink_->finish();
    state_.tell_losses();
    return std::move(state_.result);
  }

 private:
  void refuse_without_room() const {
    if (!state_.result.room || state_.result.room->fits()) return;
    const RestoreRoom& tight = *state_.result.room;
    throw Error(ErrorKind::full,
                "there is not enough room in " + printable(request_.target) + ": " + size_text(tight.needed) +
                    " are needed, " + size_text(tight.free) + " are free; nothing was restored",
                "free " + size_text(tight.needed - tight.most) + ", or restore to another drive");
  }

  // What there is to do, and whether there is room for it.
  PhaseTotals survey(const std::vector<TreePath>& picked) {
    PhaseTotals totals;
    RoomNeeded room(state_, request_.target);
    observer_.phase_begins(Phase::scanning, {});
    for (const TreePath& path : picked) {
      CatalogReader catalog = point_.catalog();
      catalog.seek(path);
      try {
        for (std::optional<Entry> entry = catalog.next(); entry && entry->path.is_within(path);
             entry = catalog.next()) {
          control_.checkpoint();
          totals.bytes += entry->size;
          ++totals.files;
          // An image that goes back over its device takes no room.
          const bool to_device = entry->type == EntryType::device_image && request_.in_place;
          if (entry->type != EntryType::folder && !to_device) room.add(*entry, place_of(*entry, path));
        }
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
      }
    }
    state_.result.room = room.tightest();
    if (!request_.dry) refuse_without_room();
    return totals;
  }

  void restore_tree(const TreePath& picked) {
    std::optional<CatalogReader> catalog(point_.catalog());
    bool whole_path = request_.in_place || request_.layout == Layout::path;
    if (whole_path) restore_ancestors(*catalog, picked);
    catalog->seek(picked);
    std::optional<TreePath> last;  // restored
    while (true) {
      control_.checkpoint();
      std::optional<Entry> entry;
      try {
        entry = catalog->next();
      } catch (const Error& error) {
        if (point_.renew()) {
          go_on_after(catalog, last.value_or(picked));
          continue;
        }
        if (!does_not_read(error)) throw;
        report_gap(*catalog, picked, error);
        if (!catalog->skip_damaged_page()) return;
        continue;
      }
      if (!entry || !entry->path.is_within(picked)) return;
      if (last && !(*last < entry->path)) continue;
      if (restore_entry(*entry, picked)) go_on_after(catalog, entry->path);
      last = entry->path;
    }
  }

  // The point was opened anew.
  void go_on_after(std::optional<CatalogReader>& catalog, const TreePath& path) {
    catalog.emplace(point_.catalog());
    catalog->seek(path);
  }

  // The folders above what was picked, so that those which must be created get their attributes too.
  void restore_ancestors(CatalogReader& catalog, const TreePath& picked) {
    TreePath at;
    for (const std::string& name : picked.components()) {
      at = at.child(name);
      if (at == picked) return;
      std::optional<Entry> entry = catalog.find(at);
      if (!entry || entry->type != EntryType::folder) return;
      sink_->leave(at);
      sink_->folder(*entry, at, true);
    }
  }

  void report_gap(const CatalogReader& catalog, const TreePath& picked, const Error& error) {
    CatalogReader::Gap gap = catalog.damaged_range();
    bool damaged = !is_of_the_system(error);
    state_.result.damaged = state_.result.damaged || damaged;
    state_.problem(gap.from.is_within(picked) ? gap.from : picked, "list",
                   std::string("a part of the list of files ") +
                       (damaged ? "is damaged (" : "cannot be read (") + error.what() +
                       "): everything from here" +
                       (gap.until ? " to " + printable(gap.until->absolute()) : std::string(" on")) +
                       " is not restored");
  }

  // Relative to the target.
  TreePath place_of(const Entry& entry, const TreePath& picked) const {
    if (request_.in_place || request_.layout == Layout::path) return entry.path;
    if (request_.layout == Layout::flat) return TreePath().child(entry.path.name());
    return entry.path.below(picked.is_root() ? picked : picked.parent());
  }

  // True when the point was opened anew meanwhile.
  bool restore_entry(const Entry& entry, const TreePath& picked) {
    if (request_.layout == Layout::flat && !request_.in_place && entry.type == EntryType::folder)
      return false;
    if (entry.path.is_root() && entry.type == EntryType::folder) return false;
    bool renewed = false;
    constexpr int tries = 4;
    for (int attempt = 1; !try_entry(entry, picked, attempt < tries, renewed); ++attempt) {
    }
    if (entry.has_content()) observer_.advanced(0, 1);
    return renewed;
  }

  // False when it is worth another try: the sets were changed while it was read.
  bool try_entry(const Entry& entry, const TreePath& picked, bool may_renew, bool& renewed) {
    TreePath place = place_of(entry, picked);
    sink_->leave(place);
    try {
      if (entry.type == EntryType::folder) {
        ++state_.result.folders;
        sink_->folder(entry, place, false);
        if (entry.incomplete)
          state_.problem(entry.path, "restore all of",
                         "it could not be listed in full when the point was made; what was not seen then is "
                         "not in it");
      } else {
        sink_->leaf(entry, place);
      }
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::full || error.kind() == ErrorKind::key) throw;
      if (may_renew && (error.kind() == ErrorKind::damage || is_of_the_system(error)) && point_.renew()) {
        renewed = true;
        return false;
      }
      if (error.kind() == ErrorKind::damage) state_.result.damaged = true;
      state_.problem(entry.path, "restore", error.what());
    }
    return true;
  }

  RestoreState state_;
  std::unique_ptr<RestoreSink> sink_;
  OpenPoint& point_;
  const RestoreRequest& request_;
  Observer& observer_;
  RunControl& control_;
};

}  // namespace

std::string_view fate_word(RestoreFate fate) {
  static constexpr std::string_view words[] = {"put",       "beside",  "replaces", "kept",
                                               "identical", "renamed", "in-parts", "device"};
  return words[static_cast<std::size_t>(fate)];
}

std::string_view fate_text(RestoreFate fate) {
  static constexpr std::string_view words[] = {"",
                                               "beside the one that is there",
                                               "replaces what was there",
                                               "what is there stays",
                                               "identical to what is there",
                                               "under another name",
                                               "in parts",
                                               "written over the device"};
  return words[static_cast<std::size_t>(fate)];
}

std::optional<Layout> parse_layout(std::string_view name) {
  if (name == "path") return Layout::path;
  if (name == "picked") return Layout::picked;
  if (name == "flat") return Layout::flat;
  return std::nullopt;
}

RestoreResult restore(LookSession& subject, const PointWish& wish, const RestoreRequest& request,
                      Observer& observer, RunControl& control,
                      const std::function<void(const RestoredItem&)>& item) {
  OpenPoint point(subject, wish);
  return restore(point, request, observer, control, item);
}

RestoreResult restore(OpenPoint& point, const RestoreRequest& request, Observer& observer,
                      RunControl& control, const std::function<void(const RestoredItem&)>& item) {
  Restorer restorer(point, request, observer, control, item);
  return restorer.run();
}

}  // namespace kestrum
