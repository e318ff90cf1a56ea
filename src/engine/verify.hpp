// Reading back and checking: which sets are as they were sealed, and what any damage means for which file at
// which point.
#pragma once

#include "archive/set_check.hpp"
#include "engine/bad_places.hpp"
#include "engine/check_round.hpp"
#include "engine/look.hpp"
#include "engine/set_repair.hpp"

namespace kestrum {

struct AffectedFile {
  std::string path;
  std::string reason;
  std::vector<std::size_t> places;  // among those of the result; empty: not known
};

// Told of every affected file, however many there are.
class AffectedSink {
 public:
  virtual ~AffectedSink() = default;
  // What was told before does not count.
  virtual void begin() = 0;
  virtual void file(Sequence point, const std::string& path, const std::string& reason,
                    const std::vector<BadPlace>& places) = 0;
};

struct PointVerdict {
  Sequence sequence = 0;
  std::string folder;
  std::optional<SetFacts> facts;      // none when no seal reads
  std::vector<std::string> findings;  // of its own set
  std::vector<std::string> parity;    // of its own set's parity: the point is as good without
  LostPlaces lost;                    // of its own set: what does not read, as far as is known
  std::vector<SealedFile> files;      // of its own set
  std::string unreadable;             // it could not be checked, and why: nothing is known of it then
  // That is because the passphrase at hand does not open it. `expected`: this machine knows that the one of
  // before does.
  bool closed = false, expected = false;
  bool listed = false;                 // its list was gone through, and all that it refers to looked for
  std::uint64_t affected_count = 0;    // files that cannot be restored as they were
  std::vector<AffectedFile> affected;  // the first of them
  bool damaged() const { return !findings.empty() || affected_count != 0; }
  bool good() const { return !damaged() && (unreadable.empty() || expected); }
};

// The files of a point held against what is on the disk now: at depth `source`.
struct SourceTally {
  std::uint64_t same = 0;
  std::uint64_t changed = 0, gone = 0;   // since; by size and time
  std::uint64_t unread = 0;              // on the disk
  std::uint64_t wrong = 0;               // other content at the same size and time
  std::vector<std::string> wrong_paths;  // the first of them
};

struct VerifyResult {
  Depth depth = Depth::quick;
  bool known = false;  // nothing was read but lists
  std::vector<PointVerdict> points;
  std::vector<BadPlace> places;       // those that mean most first
  std::vector<std::string> findings;  // of the job's folder and the drive
  std::uint64_t bytes = 0;            // read
  std::uint64_t left_bytes = 0;       // that were to be checked too, and are left for the next time
  bool complete = true;               // nothing is left
  std::optional<Instant> went_on;     // when the check was begun that this one went on with
  std::uint64_t seed = 0;             // by which a sample was chosen
  std::optional<SourceTally> source;
  bool damaged() const;
  bool good() const;
  bool closed() const;  // some points are, and nobody knows of it
};

// Of one destination.
struct DriveVerdict {
  std::string drive;  // where it is
  VerifyResult result;
  std::vector<SetRepair> mending = {};  // what could be mended, where that was looked for
};
// Of all of them together: damage first, then a key that does not open, then what could not be read.
int exit_code_of(const std::vector<DriveVerdict>& verdicts);

struct VerifyRequest {
  Depth depth = Depth::all;
  std::optional<PointWish> at;  // only this point and what it needs; none: everything
  unsigned workers = 2;         // threads that read and check
  // Of depth `all`, of everything: how much of it in one go, and what it goes on with. The name is the
  // session's to give.
  RoundRequest round = {};
  unsigned sample_percent = 5;        // of the bytes, 1 to 100, at depth `sample`
  std::optional<std::uint64_t> seed;  // the sample is the same each time; none: what was read longest ago
  std::string machine = {};           // this one, at depth `source`
  // With depth `all`: what earlier checks have found, and what that means; nothing is read but the lists of
  // points. Needs a history.
  bool known = false;
  AffectedSink* affected = nullptr;
};

// Damage is the result, never thrown. Throws Error: key (nothing opens), usage; Stopped. `history` remembers
// what was found; may be nullptr.
VerifyResult verify(LookSession& session, const VerifyRequest& request, const Clock& clock, History* history,
                    Observer& observer, RunControl& control);
// The same on sets in any store, for callers with no home.
VerifyResult verify_sets(const Store& store, SetList sets, KeyRing& keys, const VerifyRequest& request,
                         const Clock& clock, History* history, Observer& observer, RunControl& control);

}  // namespace kestrum
