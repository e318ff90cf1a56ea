#include "engine/gone_points.hpp"

#include <algorithm>
#include <set>

#include "base/text.hpp"

namespace kestrum {
namespace {

// What lies there now, whether it counts or not.
class Lying {
 public:
  explicit Lying(const SetList& sets) {
    for (const FoundSet& set : sets) {
      take(set.seal);
      take(set.twin);
      take(set.left_out);
      take(set.superseded);
      // What is wrong with its seals, or goes just now, is told of the set itself.
      if (!set.seal && !set.left_out && !set.superseded) numbers_.insert(set.folder.sequence);
    }
  }
  bool has(const KnownPoint& point) const {
    const bool folded = std::any_of(folds_.begin(), folds_.end(), [&](const auto& range) {
      return range.first <= point.sequence && point.sequence <= range.second;
    });
    return folded || sets_.contains(point.set) || numbers_.contains(point.sequence);
  }

 private:
  void take(const std::optional<Seal>& seal) {
    if (!seal) return;
    const SetFacts& facts = seal->core.facts;
    sets_.insert(facts.set);
    if (facts.folded_from) folds_.emplace_back(facts.covers_from(), facts.sequence);
  }

  std::set<Id> sets_;
  std::set<Sequence> numbers_;
  std::vector<std::pair<Sequence, Sequence>> folds_;
};

void take_out(std::vector<KnownPoint>& points, const Lying& lying) {
  std::erase_if(points, [&](const KnownPoint& one) { return lying.has(one); });
}

// Of which older_state() tells.
std::optional<Sequence> told_as_newest(const LookSession& session, const DriveState& drive) {
  if (session.older_state().empty()) return std::nullopt;
  const std::optional<SetFolder> folder = parse_set_folder("", drive.newest_folder);
  return folder ? folder->sequence : drive.highest;
}

}  // namespace

std::vector<KnownPoint> gone_points(const LookSession& session) {
  const std::optional<DriveIdentity>& on = session.destination().drive;
  const DriveState* const drive = session.job() && session.state() && on && session.has_identity()
                                      ? session.state()->drive(on->id)
                                      : nullptr;
  if (drive == nullptr) return {};
  // What a late listing does not show may be there.
  if (!session.store().traits().lists_at_once) return {};
  const auto known = [&] { return session.history().known_points(session.identity().job, on->id); };
  std::vector<KnownPoint> points = known();
  take_out(points, Lying(session.sets()));
  if (points.empty()) return points;
  // Somebody may have sealed, folded or pruned since the list was read. What goes is let go before it goes,
  // so that what is missing between two looks at the history is missing.
  take_out(points, Lying(SetList(session.store(), session.folder(), session.identity().job)));
  std::set<Id> still;
  for (const KnownPoint& one : known()) still.insert(one.set);
  std::erase_if(points, [&](const KnownPoint& one) { return !still.contains(one.set); });
  if (points.empty()) return points;
  const std::optional<Sequence> newest = told_as_newest(session, *drive);
  std::erase_if(points, [&](const KnownPoint& one) { return one.sequence == newest; });
  return points;
}

std::string gone_text(const KnownPoint& point) {
  return "point " + std::to_string(point.sequence) + " (" + std::string(kind_name(point.kind)) + ", " +
         weekday_text(point.started) + " " + local_text(point.started, true) +
         ") is gone, and neither a rule nor "
         "a person let it go; it held " +
         count_text(point.files, "file") + ", " + size_text(point.bytes);
}

std::string gone_advice(const Job& job, const KnownPoint& point) {
  return "look for its folder elsewhere on the drive, or on a copy of it; if it is well that it is gone: "
         "kestrum "
         "drop " +
         shell_word(printable(job.name)) + " " + std::to_string(point.sequence);
}

std::vector<std::string> gone_lines(const LookSession& session) {
  std::vector<std::string> lines;
  for (const KnownPoint& point : gone_points(session))
    lines.push_back(gone_text(point) + "; " + gone_advice(*session.job(), point));
  return lines;
}

void let_be_gone(History& history, const std::vector<KnownPoint>& points, Instant when) {
  for (const KnownPoint& point : points) history.let_point_go(point.set, when);
}

}  // namespace kestrum
