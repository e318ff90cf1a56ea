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
  Id machine_id{};  // which machine of that name; zero: its system has no identity
  // Points up to this one were made by a home that could not write down that it had made them.
  struct Unremembered {
    Id home{};  // which
    Sequence point = 0;
  } unremembered = {};
};

// Nothing when there is no drive.json; damage when it does not read.
std::optional<DriveIdentity> read_drive(const Store& store);
void write_drive(Store& store, const DriveIdentity& drive);
// Only where there is none; false when there is.
bool create_drive(Store& store, const DriveIdentity& drive);
// `folder`: <machine>/<job>, or "" when the store is opened at the job's folder.
std::optional<JobIdentity> read_job_identity(const Store& store, const std::string& folder);
// In the place of one that does not read.
void write_job_identity(Store& store, const std::string& folder, const JobIdentity& job);
// False when there is one already.
bool create_job_identity(Store& store, const std::string& folder, const JobIdentity& job);

// ASCII letters, digits, '-', '_' and '.' (not first); never empty.
std::string safe_folder_name(std::string_view name);

// 000012_2027-03-02_20-30_incremental, of a folded one 000012_2027-03-02_20-30_full_from-000004
std::string set_folder_name(Sequence sequence, Instant started, std::int32_t offset_seconds, Kind kind,
                            std::optional<Sequence> folded_from = {});
// A set that is being written or removed says so: by the end of its folder's name where the store can rename
// folders, else by a file of that name in it.
inline constexpr std::string_view unfinished_mark = ".unfinished";
inline constexpr std::string_view removing_mark = ".removing";
inline constexpr const char* unfinished_file = "unfinished.mark";
inline constexpr const char* removing_file = "removing.mark";

struct SetFolder {
  std::string name;
  std::string path;  // in the store
  Sequence sequence = 0;
  bool unfinished = false;
  bool removing = false;
  bool named_by_rule = false;  // as sets are named; a seal makes any folder a set that begins with a number
};
// Nothing when the name cannot be that of a set's folder.
std::optional<SetFolder> parse_set_folder(const std::string& job_folder, const std::string& name);
// In order of sequence. `others`: gets the names of the folders that cannot be sets.
std::vector<SetFolder> list_set_folders(const Store& store, const std::string& job_folder,
                                        std::vector<std::string>* others = nullptr);

std::string in_folder(const std::string& folder, const std::string& name);

}  // namespace kestrum
