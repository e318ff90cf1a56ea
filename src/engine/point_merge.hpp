// Points of jobs, over all their drives, opened to go through their catalogs side by side.
#pragma once

#include "archive/catalog_merge.hpp"
#include "engine/session.hpp"

namespace kestrum {

// Reads the catalogs of many points with one set of frames in memory for each naming key.
class PointRow {
 public:
  struct Point {
    std::size_t session = 0;  // of those given
    SetFacts facts;
  };
  // Which points count, and what is said of one that does not open.
  struct Ways {
    std::function<bool(std::size_t session, const SetFacts&)> wanted =
        {};  // none: all that were not given up
    std::function<void(const std::string&)> unread = {};
  };
  // The sessions must outlive this, and read their sets anew only behind its end.
  PointRow(std::vector<LookSession>& sessions, const Ways& ways);

  // By session, of each in the order of their numbers.
  const std::vector<Point>& points() const { return points_; }
  const std::vector<CatalogMerge::Source>& sources() const { return sources_; }  // of the same order
  PointReader& reader(std::size_t point) { return *readers_[sources_[point].family]; }
  // "point 12 of tern-1"
  std::string name(std::size_t point) const;

 private:
  void add_session(std::size_t number, const Ways& ways);
  std::vector<LookSession>& sessions_;
  std::vector<std::unique_ptr<ChainReader>> chains_;
  std::vector<std::unique_ptr<PointReader>> readers_;
  std::vector<Point> points_;
  std::vector<CatalogMerge::Source> sources_;
};

}  // namespace kestrum
