// Looking inside: points, folders as they were, names.
#pragma once

#include "archive/catalog_reader.hpp"
#include "base/results.hpp"
#include "engine/session.hpp"
#include "engine/set_proofs.hpp"

namespace kestrum {

struct PointInfo {
  Sequence sequence = 0;
  std::string folder;
  bool sealed = false;
  bool closed = false;          // the job's passphrase is known not to open it
  SetFacts facts;               // when sealed
  std::vector<Sequence> needs;  // all sets that a restore reads besides its own, and those that are missing
  Health health = Health::unproved;
  std::vector<std::string> findings;
  std::optional<ProvedShare> proved;  // of its set; none without a history
  bool good() const { return is_good(health); }
};

// What is known of each set's health, without a key, by sizes and by what checks found. `history` may be
// nullptr. Sets that a folded one covers are left out. Each folder is listed once.
// `list_needs`: fill in what each needs, which takes time in proportion to that.
std::vector<PointInfo> judge_points(const Store& store, const SetList& sets, History* history,
                                    bool list_needs = false);

// The same of a session's sets, those that only lack their key among them.
std::vector<PointInfo> own_points(const LookSession& session, History* history, bool list_needs = false);

// A point that a run was broken off at: the next one goes on with it.
struct LeftPoint {
  Sequence sequence = 0;
  Instant begun;
  std::uint64_t bytes = 0;          // that lie at the destination
  std::optional<unsigned> percent;  // of the sources that was gone through, when it is known
};

struct PointsResult {
  std::string destination;
  std::string drive;  // its name
  std::string machine;
  std::string job;
  std::optional<bool> encrypted;  // of the newest set, else as the job says; none: nothing is known
  std::vector<PointInfo> points;  // in order
  bool words_proved = true;       // what was said of points, by people and the guard: by the chain's key
  std::optional<LeftPoint> left;
  std::vector<std::string> findings;  // of the drive, the job's folder, what is gone and what is not ours
  std::vector<std::string> notes;     // what lies beside the sets and is left alone
  std::optional<Error> refused;       // what the next run is refused with
  StoreSpace space;
};

// Needs no key: seals are read as they say. `history` adds what checks found; may be nullptr. Looks at file
// sizes. Reads the sets again where somebody changed them meanwhile: that looks like damage.
PointsResult list_points(LookSession& session, History* history);
inline PointsResult list_points(LookSession&& session, History* history) {
  return list_points(session, history);
}

// A point opened for reading.
class OpenPoint {
 public:
  // Throws damage, key, wrong_drive, usage (no such point). The session must outlive it.
  OpenPoint(LookSession& session, const PointWish& wish);
  // The same on sets in any store, which must outlive this.
  OpenPoint(const Store& store, SetList sets, KeyRing& keys, const PointWish& wish);
  const SetFacts& facts() { return reader().set().facts(); }
  PointReader& reader() { return opened_->reader; }
  CatalogReader catalog() { return CatalogReader(reader(), reader().set().root().catalog); }
  // False where anybody who could write there could have made it; see LookSession::authenticated.
  bool authenticated() const { return authenticated_; }
  // After something of it did not read: opens it anew when the sets were changed meanwhile (a fold moves
  // files, a pruning takes whole sets). False when they were not; readers had before are no good afterwards.
  // Throws failed when the point itself is gone.
  bool renew();

 private:
  struct Opened {
    Opened(const Store& store, SetList sets, KeyRing& keys, const PointWish& wish);
    ChainReader chain;
    PointReader reader;
  };
  LookSession* session_ = nullptr;
  std::unique_ptr<Opened> opened_;
  bool authenticated_ = true;
};

// Calls `use`, and again when it throws while somebody has changed the sets that it read.
template <typename Use>
auto with_current_sets(LookSession& session, Use&& use) {
  constexpr int tries = 4;
  for (int attempt = 1;; ++attempt) {
    try {
      return use();
    } catch (const Error&) {
      if (attempt == tries || session.is_current()) throw;
      session.read_again();
    }
  }
}

// A folder with its direct children, or the one entry when the path is no folder. Throws usage when the path
// is not in the point, offering the nearest names.
struct Listing {
  struct Child {
    Entry entry;
    std::optional<CatalogReader::Below> below;  // of a folder; none where that does not read
  };
  Entry self;
  std::vector<Child> children;        // by name
  std::vector<std::string> findings;  // parts of the list that do not read, in plain words
};
// `sums`: with what is in each folder. `deep`: with all that is below, in order, not only what is directly in
// it.
struct BrowseWays {
  bool sums = false;
  bool deep = false;
};
Listing browse(OpenPoint& point, const TreePath& path, const BrowseWays& ways = {});
// "a part of the list of files does not read (why): what comes from /a to /b"
std::string gap_text(const TreePath& from, const std::optional<TreePath>& until, const std::string& why);

// A path inside a point as a person wrote it, which may mean more than one thing: the first that is there
// counts.
struct WantedPath {
  WantedPath(TreePath one) : readings{std::move(one)} {}
  explicit WantedPath(std::vector<TreePath> all) : readings(std::move(all)) {}
  std::vector<TreePath> readings;  // at least one
};
// Throws as `browse` does, about the first reading.
TreePath path_in(OpenPoint& point, const WantedPath& wanted);

// A path is not in the point.
class NoSuchPath : public Error {
 public:
  NoSuchPath(const Error& error, std::vector<TreePath> readings)
      : Error(error), readings_(std::move(readings)) {}
  // What it could have meant.
  const std::vector<TreePath>& readings() const { return readings_; }

 private:
  std::vector<TreePath> readings_;
};
NoSuchPath no_such_path(OpenPoint& point, const TreePath& path);

}  // namespace kestrum
