#include "engine/restore.hpp"

#include <algorithm>
#include <cerrno>
#include <set>
#include <utility>

#include "archive/file_view.hpp"
#include "base/text.hpp"
#include "engine/nearest_points.hpp"
#include "engine/path_choice.hpp"
#include "engine/restore_fate.hpp"
#include "engine/restore_places.hpp"
#include "engine/restore_sink.hpp"
#include "target/archive_file.hpp"

namespace kestrum {
namespace {

// Two of what is picked go into one folder: it may be left and come to again.
bool share_a_name(const std::vector<TreePath>& picked) {
  std::set<std::string_view> names;
  return !std::all_of(picked.begin(), picked.end(),
                      [&](const TreePath& path) { return names.insert(path.name()).second; });
}

// For as long as it lives, what is restored is read from another point.
class ReadingFrom {
 public:
  ReadingFrom(RestoreState& state, OpenPoint& other) : state_(state), before_(state.source()) {
    state.read_from(other);
  }
  ~ReadingFrom() { state_.read_from(before_); }
  ReadingFrom(const ReadingFrom&) = delete;
  ReadingFrom& operator=(const ReadingFrom&) = delete;

 private:
  RestoreState& state_;
  OpenPoint& before_;
};

class Restorer {
 public:
  Restorer(OpenPoint& point, const RestoreRequest& request, Observer& observer, RunControl& control,
           const std::function<void(const RestoredItem&)>& item, NearestPoints* others)
      : state_(point, request, observer, control, item),
        others_(others),
        places_(request, point),
        point_(point),
        request_(request),
        observer_(observer),
        control_(control) {}

  RestoreResult run() {
    const auto begin = std::chrono::steady_clock::now();
    const std::vector<TreePath> picked = choose();
    refuse_odd_picks(picked);
    const PhaseTotals totals = survey(picked);
    sink_ = make_sink(picked);
    observer_.phase_begins(Phase::restoring, totals);
    for (const TreePath& path : picked) restore_tree(path);
    sink_->leave(TreePath());
    sink_->finish();
    state_.tell_losses();
    state_.result.duration = std::chrono::steady_clock::now() - begin;
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

  // Where the list does not read there, the restore itself tells what that means.
  TreePath picked_path(const WantedPath& wanted) {
    try {
      return path_in(point_, wanted);
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      return wanted.readings.front();
    }
  }

  // What is picked, each once: what lies inside a picked folder is not restored twice. Returns where to
  // begin.
  std::vector<TreePath> choose() {
    std::vector<TreePath> taken, left_out, picked;
    for (const WantedPath& path : request_.paths) taken.push_back(picked_path(path));
    for (const WantedPath& path : request_.without) left_out.push_back(picked_path(path));
    std::sort(taken.begin(), taken.end());
    for (const TreePath& path : taken) {
      if (picked.empty() || !path.is_within(picked.back())) picked.push_back(path);
    }
    for (const TreePath& path : left_out) {
      const bool inside = std::any_of(picked.begin(), picked.end(), [&](const TreePath& one) {
        return path.is_within(one) && path != one;
      });
      if (!inside)
        throw Error(ErrorKind::usage,
                    "--without " + printable(path.absolute()) + " lies in nothing that is to be restored",
                    "leave it away, or name the folder that it is in");
    }
    choice_ = PathChoice(taken, left_out);
    takes_out_ = choice_.takes_out();
    return picked;
  }

  enum class Part { whole, on_the_way, none };
  Part part_of(const Entry& entry) const {
    if (!takes_out_ || choice_.holds(entry.path)) return Part::whole;
    return entry.type == EntryType::folder && choice_.differs_below(entry.path) ? Part::on_the_way
                                                                                : Part::none;
  }

  // It was taken out again, with what is in it.
  bool passes_over(CatalogReader& catalog, const Entry& entry) const {
    if (part_of(entry) != Part::none) return false;
    if (entry.type == EntryType::folder) catalog.skip_past(entry.path);
    return true;
  }

  // A stream takes one file.
  void refuse_odd_picks(const std::vector<TreePath>& picked) {
    if (request_.into != RestoreInto::stream) return;
    const std::optional<Entry> entry =
        picked.size() == 1 && !picked[0].is_root() ? point_.catalog().find(picked[0]) : std::nullopt;
    if (entry && entry->type == EntryType::file) return;
    throw Error(ErrorKind::usage, "only one file can go to standard output, and no folder",
                "put several into one file: --into FILE.tar.zst or FILE.zip");
  }

  std::unique_ptr<RestoreSink> make_sink(const std::vector<TreePath>& picked) {
    if (request_.dry && request_.into == RestoreInto::folder) return dry_sink(state_);
    if (request_.dry) return list_sink(state_);
    if (request_.into == RestoreInto::archive) return archive_sink(state_);
    if (request_.into == RestoreInto::stream) return stream_sink(state_);
    return folder_sink(state_, share_a_name(picked) || request_.nearest || !request_.map.empty());
  }

  // What there is to do, and whether there is room for it.
  PhaseTotals survey(const std::vector<TreePath>& picked) {
    PhaseTotals totals;
    const bool to_folder = request_.into == RestoreInto::folder;
    std::optional<RoomNeeded> room;
    if (to_folder) room.emplace(state_, request_.target);
    observer_.phase_begins(Phase::scanning, {});
    for (const TreePath& path : picked) {
      CatalogReader catalog = point_.catalog();
      try {
        catalog.seek(path);
        for (std::optional<Entry> entry = catalog.next(); entry && entry->path.is_within(path);
             entry = catalog.next()) {
          control_.checkpoint();
          if (passes_over(catalog, *entry)) continue;
          totals.bytes += entry->size;
          ++totals.files;
          // An image that goes back over its device takes no room.
          const bool to_device = entry->type == EntryType::device_image && request_.in_place;
          if (room && entry->type != EntryType::folder && !to_device)
            room->add(*entry, places_.of(*entry, path));
        }
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
      }
    }
    if (room) state_.result.room = room->tightest();
    if (!request_.dry) refuse_without_room();
    return totals;
  }

  void restore_tree(const TreePath& picked) {
    std::optional<CatalogReader> catalog(point_.catalog());
    bool whole_path = request_.in_place || request_.layout == Layout::path;
    if (whole_path) restore_ancestors(*catalog, picked);
    bool sought = false;
    std::optional<TreePath> last;  // restored
    while (true) {
      control_.checkpoint();
      std::optional<Entry> entry;
      try {
        if (!std::exchange(sought, true)) catalog->seek(picked);
        entry = catalog->next();
      } catch (const Error& error) {
        if (point_.renew()) {
          go_on_after(catalog, last.value_or(picked));
          continue;
        }
        if (!does_not_read(error)) throw;
        CatalogReader::Gap gap;
        const bool more = catalog->pass_damage(gap);
        bridge_gap(gap, picked, error);
        if (!more) return;
        continue;
      }
      if (!entry || !entry->path.is_within(picked)) return;
      if ((last && !(*last < entry->path)) || passes_over(*catalog, *entry)) continue;
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
      std::optional<Entry> entry;
      try {
        entry = catalog.find(at);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        return;  // what must be created is made without its attributes
      }
      if (!entry || entry->type != EntryType::folder) return;
      const std::optional<TreePath> place = places_.of_ancestor(at);
      if (!place) continue;
      sink_->leave(*place);
      sink_->folder(*entry, *place, true);
    }
  }

  // What the list lacks comes from the nearest point that has it, where that is wanted.
  void bridge_gap(const CatalogReader::Gap& gap, const TreePath& picked, const Error& error) {
    const TreePath from = gap.from.is_within(picked) ? gap.from : picked;
    std::optional<TreePath> last;  // restored
    const bool bridged = others_ != nullptr && request_.nearest && others_->each([&](OpenPoint& other) {
      return restore_range(other, from, gap.until, picked, last);
    });
    if (!bridged) report_gap(gap, picked, error);
  }

  // False where that point's list does not read there either; `last` tells how far it came.
  bool restore_range(OpenPoint& other, const TreePath& from, const std::optional<TreePath>& until,
                     const TreePath& picked, std::optional<TreePath>& last) {
    const ReadingFrom here(state_, other);
    CatalogReader catalog = other.catalog();
    bool sought = false;
    const auto next = [&] {
      if (!std::exchange(sought, true)) catalog.seek(last.value_or(from));
      return catalog.next();
    };
    while (true) {
      std::optional<Entry> entry;
      try {
        entry = next();
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        return false;
      }
      if (!entry || !entry->path.is_within(picked) || (until && !(entry->path < *until))) break;
      if ((last && !(*last < entry->path)) || passes_over(catalog, *entry)) continue;
      restore_entry(*entry, picked);
      last = entry->path;
    }
    state_.problem(from, "list",
                   "a part of the list of files does not read: what was there comes from point " +
                       point_text(other.facts()));
    return true;
  }

  void report_gap(const CatalogReader::Gap& gap, const TreePath& picked, const Error& error) {
    state_.result.damaged = state_.result.damaged || !is_of_the_system(error);
    const TreePath& from = gap.from.is_within(picked) ? gap.from : picked;
    state_.problem(from, "list", gap_text(from, gap.until, error.what()) + " is not restored");
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
    const TreePath place = places_.of(entry, picked);
    sink_->leave(place);
    try {
      if (entry.type == EntryType::folder) {
        const bool on_the_way = part_of(entry) == Part::on_the_way;
        state_.result.folders += on_the_way ? 0 : 1;
        sink_->folder(entry, place, on_the_way);
        if (entry.incomplete && !on_the_way)
          state_.problem(entry.path, "restore all of",
                         "it could not be listed in full when the point was made; what was not seen then is "
                         "not in it");
      } else {
        sink_->leaf(entry, place);
      }
    } catch (const TargetLost&) {
      throw;
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::full || error.kind() == ErrorKind::key) throw;
      // One place that takes nothing; in place there are several.
      if (error.system_code() == EROFS && !request_.in_place)
        throw Error(ErrorKind::failed, error.what(), "restore to another place, with --to");
      if (may_renew && (error.kind() == ErrorKind::damage || is_of_the_system(error)) && point_.renew()) {
        renewed = true;
        return false;
      }
      if (!does_not_read(error) || !from_another(entry, place)) {
        if (error.kind() == ErrorKind::damage) state_.result.damaged = true;
        state_.problem(entry.path, "restore", std::string(error.what()) + where_it_is_good(entry, error));
      }
    }
    return true;
  }

  bool from_another(const Entry& entry, const TreePath& place) {
    if (others_ == nullptr || !request_.nearest || entry.type == EntryType::folder) return false;
    return others_->each([&](OpenPoint& other) {
      try {
        const std::optional<Entry> theirs = other.catalog().find(entry.path);
        if (!theirs || theirs->type == EntryType::folder) return false;
        const ReadingFrom here(state_, other);
        sink_->leaf(*theirs, place);
      } catch (const TargetLost&) {
        throw;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        return false;
      }
      state_.problem(entry.path, "restore",
                     "its copy in point " + std::to_string(point_.facts().sequence) +
                         " does not read: it comes from point " + point_text(other.facts()));
      return true;
    });
  }

  // For the first few that do not read; what is large is not read for it.
  std::string where_it_is_good(const Entry& entry, const Error& error) {
    constexpr unsigned most_asked = 20;
    constexpr std::uint64_t most_read = 64u << 20;
    if (others_ == nullptr || !does_not_read(error) || entry.size > most_read || asked_ == most_asked)
      return {};
    ++asked_;
    const std::string names = others_->names_of([&](OpenPoint& other) {
      try {
        const std::optional<Entry> theirs = other.catalog().find(entry.path);
        if (!theirs || theirs->type != entry.type) return false;
        FileView(other.reader(), *theirs).each(0, theirs->size, [](std::uint64_t, ByteView) {});
        return true;
      } catch (const Error& trouble) {
        if (!does_not_read(trouble)) throw;
        return false;
      }
    });
    return names.empty() ? "; no other point has a good copy of it"
                         : "; good in " + names + ": --nearest takes the nearer one";
  }

  RestoreState state_;
  NearestPoints* others_;
  const RestorePlaces places_;
  PathChoice choice_;
  bool takes_out_ = false;
  unsigned asked_ = 0;
  std::unique_ptr<RestoreSink> sink_;
  OpenPoint& point_;
  const RestoreRequest& request_;
  Observer& observer_;
  RunControl& control_;
};

}  // namespace

RestoreResult restore(LookSession& subject, const PointWish& wish, const RestoreRequest& request,
                      Observer& observer, RunControl& control,
                      const std::function<void(const RestoredItem&)>& item) {
  OpenPoint point(subject, wish);
  return restore(point, request, observer, control, item);
}

RestoreResult restore(OpenPoint& point, const RestoreRequest& request, Observer& observer,
                      RunControl& control, const std::function<void(const RestoredItem&)>& item) {
  Restorer restorer(point, request, observer, control, item, nullptr);
  return restorer.run();
}

namespace {

// The point that is wished for; where it is not there or does not open, the nearest that does, or what to do.
std::unique_ptr<OpenPoint> open_wanted(std::vector<LookSession>& subjects, std::size_t subject,
                                       const PointWish& wish, bool nearest, Observer& observer) {
  try {
    auto point = std::make_unique<OpenPoint>(subjects[subject], wish);
    point->catalog().page_ahead();  // reads what stands on top
    return point;
  } catch (const Error& error) {
    const bool missing = error.kind() == ErrorKind::usage && wish.by == PointWish::By::number;
    if (!missing && !does_not_read(error)) throw;
    Sequence wanted = wish.number;
    if (wish.by != PointWish::By::number)
      wanted = choose_point(subjects[subject].sets(), wish).folder.sequence;
    NearestPoints others(subjects, subject, wanted);
    const std::string names = others.names_of([](OpenPoint&) { return true; });
    if (names.empty()) throw;
    if (!nearest)
      throw Error(error.kind(), error.what(),
                  "the nearest good ones: " + names + "; --nearest takes the nearer one");
    std::unique_ptr<OpenPoint> found;
    others.each([&](OpenPoint& other) {
      found = std::make_unique<OpenPoint>(subjects[subject],
                                          PointWish{PointWish::By::number, other.facts().sequence, {}});
      return true;
    });
    observer.note(std::string(error.what()) + "; the nearest point that opens is taken: point " +
                  point_text(found->facts()));
    return found;
  }
}

}  // namespace

RestoreResult restore(std::vector<LookSession>& subjects, std::size_t subject, const PointWish& wish,
                      const RestoreRequest& request, Observer& observer, RunControl& control,
                      const std::function<void(const RestoredItem&)>& item) {
  refuse_inside_destination(subjects, request);
  const std::unique_ptr<OpenPoint> point = open_wanted(subjects, subject, wish, request.nearest, observer);
  NearestPoints others(subjects, subject, point->facts());
  Restorer restorer(*point, request, observer, control, item, &others);
  return restorer.run();
}

}  // namespace kestrum
