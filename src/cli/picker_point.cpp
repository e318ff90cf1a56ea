#include "cli/picker_point.hpp"

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/progress.hpp"
#include "cli/version_lines.hpp"

namespace kestrum {

PickerPoints::PickerPoints(ChosenPoint& chosen, const Environment& environment)
    : chosen_(chosen), disk_(is_of_here(chosen.subject(), environment)) {
  for (std::size_t session = 0; session < chosen.subjects.size(); ++session) {
    chosen.subjects[session].proved_sets();
    for (PointInfo& info : own_points(chosen.subjects[session], nullptr)) {
      if (info.sealed) points_.push_back({session, std::move(info)});
    }
  }
  std::stable_sort(points_.begin(), points_.end(), [](const Point& a, const Point& b) {
    return b.info.facts.started < a.info.facts.started;
  });
  if (points_.empty())
    throw Error(ErrorKind::usage, "there is no point to restore from yet", "make one with: kestrum run JOB");
  at_ = place_of(chosen.at, choose_point(chosen.subject().sets(), chosen.wish).folder.sequence);
}

std::size_t PickerPoints::place_of(std::size_t session, Sequence sequence) const {
  for (std::size_t i = 0; i < points_.size(); ++i) {
    if (points_[i].session == session && points_[i].info.sequence == sequence) return i;
  }
  return 0;
}

void PickerPoints::open(std::size_t place) {
  const Point& point = points_[place];
  auto opened =
      std::make_unique<OpenPoint>(session(point), PointWish{PointWish::By::number, point.info.sequence, {}});
  opened->catalog().page_ahead();  // reads what stands on top
  point_ = std::move(opened);
  at_ = place;
  chosen_.at = point.session;
  chosen_.wish = {PointWish::By::number, point.info.sequence, {}};
}

std::string PickerPoints::number(const Point& point) const {
  const std::string sequence = std::to_string(point.info.sequence);
  return several() ? drive(point) + ":" + sequence : sequence;
}

std::string PickerPoints::drive(const Point& point) const {
  return printable(chosen_.subjects[point.session].drive_name());
}

std::string PickerPoints::text(const Point& point) const {
  const SetFacts& facts = point.info.facts;
  return "point " + number(point) + ", " + weekday_text(facts.started) + " " + local_text(facts.started) +
         ", " + std::string(kind_name(facts.kind));
}

TreeItem PickerPoints::item_of(const Entry& entry) {
  TreeItem item{entry.path, entry.type == EntryType::folder, {}, entry.modified, {}};
  if (entry.has_content()) item.bytes = entry.size;
  const Today today = disk_.look(entry);
  if (today == Today::gone || today == Today::differs) item.note = today_word(today);
  if (!item.folder && !entry.has_content()) item.note = entry_type_name(entry.type);
  return item;
}

std::vector<TreeItem> PickerPoints::items(const TreePath& folder) {
  const Listing listing =
      with_point([&](OpenPoint& point) { return browse(point, folder, {.sums = true, .deep = false}); });
  findings_ = listing.findings;
  std::vector<TreeItem> items;
  for (const Listing::Child& child : listing.children) {
    items.push_back(item_of(child.entry));
    if (child.below) items.back().bytes = child.below->bytes;
  }
  return items;
}

const PickerPoints::Changes& PickerPoints::changes(std::size_t place) {
  const auto known = changes_.find(place);
  if (known != changes_.end()) return known->second;
  constexpr std::size_t most_kept = 2000, most_counted = 100000;
  struct Enough {};
  Changes changes;
  std::uint64_t count = 0;
  const Point& point = points_[place];
  try {
    each_change_of(session(point), point.info.sequence, process_control(), [&](const Difference& one) {
      if (one.entry().type == EntryType::folder) return;
      ++changes.counts[one.how];
      if (changes.first.size() < most_kept) changes.first.push_back({one.how, one.entry()});
      if (++count == most_counted) throw Enough{};
    });
  } catch (const Enough&) {
  } catch (const Error& error) {
    changes.trouble = error.what();
  }
  changes.more = count > changes.first.size();
  return changes_[place] = std::move(changes);
}

std::string changes_text(const PickerPoints::Changes& changes) {
  if (!changes.trouble.empty()) return "what changed is not known: " + changes.trouble;
  std::vector<std::string> parts;
  for (const auto& [how, count] : changes.counts)
    parts.push_back(grouped(count) + " " +
                    (how == Differs::attributes ? "with other attributes" : std::string(change_word(how))));
  if (parts.empty()) return "nothing changed";
  std::string names;
  constexpr std::size_t most_named = 3;
  for (std::size_t i = 0; i < std::min(most_named, changes.first.size()); ++i)
    names += (i == 0 ? ": " : ", ") + printable(changes.first[i].entry.path.name());
  return join(parts, ", ") + names + (changes.first.size() > most_named ? ", ..." : "");
}

}  // namespace kestrum
