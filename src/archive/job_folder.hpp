// The names and the small files of a destination: docs/FORMAT.md sections 2 and 3. Everything that lies there
// is found again from here, with no home and no job file.
#pragma once

#include "archive/seal.hpp"
#include "base/error.hpp"
#include "store/store.hpp"

namespace kestrum {

inline constexpr const char* drive_name = "drive.json";
inline constexpr const char* job_identity_name = "job.json";
inline constexpr const char* lock_name = "lock";

struct DriveIdentity {
  Id id{};
  std::string name;
  Instant created;
  std::string filesystem;  // UUID, empty when there is none
  bool simulated = false;
};

struct JobIdentity {
  Id job{};
  std::string machine;
  std::string name;
  Instant created;
};

// Nothing when there is no drive.json; damage when it does not read.
std::optional<DriveIdentity> read_drive(const Store& store);
void write_drive(Store& store, const DriveIdentity& drive);
// `folder`: <machine>/<job>, or "" when the store is opened at the job's folder.
std::optional<JobIdentity> read_job_identity(const Store& store, const std::string& folder);
void write_job_identity(Store& store, const std::string& folder, const JobIdentity& job);

// ASCII letters, digits, '-', '_' and '.' (not first); never empty.
std::string safe_folder_name(std::string_view name);

// 000012_2027-03-02_20-30_incremental, of a folded one 000012_2027-03-02_20-30_full_from-000004
std::string set_folder_name(Sequence sequence, Instant started, std::int32_t offset_seconds, Kind kind,
                            std::optional<Sequence> folded_from = {});
inline constexpr std::string_view unfinished_mark = ".unfinished";
inline constexpr std::string_view removing_mark = ".removing";

struct SetFolder {
  std::string name;
  std::string path;  // in the store
  Sequence sequence = 0;
  bool unfinished_name = false;
  bool removing = false;
};
// Nothing when the name is not that of a set's folder.
std::optional<SetFolder> parse_set_folder(const std::string& job_folder, const std::string& name);
// In order of sequence.
std::vector<SetFolder> list_set_folders(const Store& store, const std::string& job_folder);

// What a set's folder turned out to hold.
struct FoundSet {
  SetFolder folder;
  std::optional<Seal> seal;           // form and digests hold; authenticity is asked with the key
  std::optional<Seal> twin;           // the other one, when both read but differ: the key tells which is ours
  std::vector<std::string> findings;  // what is wrong with the seals, in plain words
  std::optional<Error> refusal;       // written by something newer
  std::optional<Seal> superseded;     // its seal, when a folded set covers it: then `seal` is none
  std::vector<SetFolder> covered;     // folded: folders of the sets it covers that are still there
  bool sealed() const { return seal.has_value(); }
};

// Reads both seals and takes the one that counts. `job`: seals of other jobs do not.
FoundSet read_set(const Store& store, const SetFolder& folder, const Id& job);
std::vector<FoundSet> read_sets(const Store& store, const std::string& job_folder, const Id& job);

// Where a file that the set lists lies: in its own folder, or, taken over from a covered set and not moved
// yet, in that one's. The path in its own folder when it is nowhere.
std::string locate_file(const Store& store, const FoundSet& set, const SealedFile& file);

// Moves what a folded set has taken over into its folder and removes the folders of the sets it covers. Safe
// to be killed in and to be repeated. The caller has authenticated the set and found it good.
void finish_fold(Store& store, const FoundSet& folded);

// Removes a set's folder or the leftovers of one, in the order of docs/FORMAT.md section 2.
void remove_set_folder(Store& store, const SetFolder& folder);

}  // namespace kestrum
