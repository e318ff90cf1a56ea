// Looking inside: points, folders as they were, names.
#pragma once

#include "archive/catalog_reader.hpp"
#include "engine/subject.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct PointInfo {
  Sequence sequence = 0;
  std::string folder;
  bool sealed = false;
  SetFacts facts;      // when sealed; `needs` as the sets that stand for them now
  std::string health;  // unproved, proved, damaged, incomplete
  std::vector<std::string> findings;
  bool good() const { return health == "proved" || health == "unproved"; }
};

// What is known of each set's health, without a key, by sizes and by what checks found. `ledger` may be
// nullptr. Sets that a folded one covers are left out.
std::vector<PointInfo> judge_points(const Store& store, const std::vector<FoundSet>& sets, Ledger* ledger);

struct PointsResult {
  std::string destination;
  std::string drive;  // its name
  std::string machine;
  std::string job;
  bool encrypted = false;
  std::vector<PointInfo> points;  // in order
  StoreSpace space;
};

// Needs no key: seals are read as they say. `ledger` adds what checks found; may be nullptr. Looks at file
// sizes.
PointsResult list_points(const Subject& subject, Ledger* ledger);

// A point opened for reading.
class OpenPoint {
 public:
  // Throws damage, key, usage (no such point).
  OpenPoint(const Subject& subject, const PointWish& wish);
  // The same on sets in any store, which must outlive this.
  OpenPoint(const Store& store, std::vector<FoundSet> sets, KeyRing& keys, const PointWish& wish);
  const SetFacts& facts() { return reader_.set().facts(); }
  PointReader& reader() { return reader_; }
  CatalogReader catalog() { return CatalogReader(reader_, reader_.set().root().catalog); }

 private:
  std::vector<FoundSet> sets_;
  Sequence sequence_;
  ChainReader chain_;
  PointReader reader_;
};

// A folder's direct children, or the one entry when the path is no folder. `listed_folder` tells which it
// was. Throws usage when the path is not in the point, offering the nearest names.
struct Listing {
  Entry self;
  std::vector<Entry> children;
};
Listing browse(OpenPoint& point, const TreePath& path);

// Calls `hit` for each entry whose name (or whole path, when the pattern holds a '/') matches; the pattern as
// in skip rules; without special characters it may stand anywhere in the name. Ignores ASCII case.
void find_names(OpenPoint& point, const std::string& pattern, const std::function<void(const Entry&)>& hit);

// The error for a path that is not in the point.
Error no_such_path(OpenPoint& point, const TreePath& path);

}  // namespace kestrum
