// The points of a picker: which there are, the one that is looked into, what a search or a file's versions
// lead to.
#pragma once

#include <memory>

#include "cli/picker_tree.hpp"
#include "cli/verbs.hpp"
#include "engine/disk_today.hpp"
#include "engine/look.hpp"
#include "engine/point_difference.hpp"

namespace kestrum {

class PickerPoints : public TreePages {
 public:
  struct Point {
    std::size_t session = 0;
    PointInfo info;
  };
  // Asks for what keys there are to ask for, while the terminal is still as it was.
  PickerPoints(ChosenPoint& chosen, const Environment& environment);

  const std::vector<Point>& all() const { return points_; }  // newest first
  std::size_t current() const { return at_; }                // of all()
  std::size_t place_of(std::size_t session, Sequence sequence) const;
  // Throws Error where it does not open; the one before stays.
  void open(std::size_t place);
  OpenPoint& point() { return *point_; }
  LookSession& session(const Point& point) { return chosen_.subjects[point.session]; }
  ChosenPoint& chosen() { return chosen_; }
  // "point tern-1:12, Tue 2027-03-14 20:30, incremental"
  std::string text(const Point& point) const;
  bool several() const { return chosen_.subjects.size() > 1; }
  std::string drive(const Point& point) const;
  std::string number(const Point& point) const;  // "tern-1:12", as --at takes it

  std::vector<TreeItem> items(const TreePath& folder) override;
  // Of the last list that was read: parts of it that do not read.
  const std::vector<std::string>& findings() const { return findings_; }
  TreeItem item_of(const Entry& entry);
  // Reads something of the open point, again when the sets were changed meanwhile.
  template <typename Use>
  auto with_point(Use&& use) {
    try {
      return use(*point_);
    } catch (const Error&) {
      if (!point_->renew()) throw;
      return use(*point_);
    }
  }

  // What differs from the point before it; only the first so many are kept.
  struct Changes {
    std::map<Differs, std::uint64_t> counts;
    std::vector<ChangedFile> first;
    bool more = false;
    std::string trouble;  // why it cannot be told
  };
  const Changes& changes(std::size_t place);
  bool knows_changes(std::size_t place) const { return changes_.contains(place); }

 private:
  ChosenPoint& chosen_;
  std::vector<Point> points_;
  std::size_t at_ = 0;
  std::unique_ptr<OpenPoint> point_;
  DiskToday disk_;
  std::vector<std::string> findings_;
  std::map<std::size_t, Changes> changes_;
};

// "3 new, 1 changed"
std::string changes_text(const PickerPoints::Changes& changes);

}  // namespace kestrum
