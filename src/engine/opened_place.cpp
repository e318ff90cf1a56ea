#include "engine/opened_place.hpp"

#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>

#include "archive/found_set.hpp"
#include "archive/job_folder.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// Nothing where this user may not look.
std::vector<StoreEntry> list_if_allowed(const Store& store, const std::string& folder) {
  try {
    return store.list(folder);
  } catch (const Error& error) {
    if (error.system_code() != EACCES && error.system_code() != EPERM) throw;
    return {};
  }
}

std::optional<JobIdentity> identity_by_seals(const Store& store, const std::string& folder) {
  for (const StoreEntry& entry : list_if_allowed(store, folder)) {
    std::optional<SetFolder> set = entry.folder ? parse_set_folder(folder, entry.name) : std::nullopt;
    if (!set) continue;
    for (const char* name : {seal_name, seal_copy_name}) {
      try {
        std::string path = set->path + "/" + name;
        std::optional<Bytes> bytes = store.try_read_all(path, limits::seal_file);
        if (!bytes) continue;
        Seal seal = decode_seal(std::move(*bytes), path);
        return JobIdentity{seal.core.job, seal.core.machine, seal.core.job_name, seal.core.facts.started};
      } catch (const Error&) {
        continue;  // the next one may read
      }
    }
  }
  return std::nullopt;
}

[[noreturn]] void not_there(const std::string& root, int code) {
  std::string shown = "the destination " + printable(root);
  if (code != ENOENT && code != ENOTDIR)
    throw Error(ErrorKind::no_destination, shown + " cannot be reached: " + system_reason(code),
                "check the drive");
  throw Error(ErrorKind::no_destination, shown + " is not there",
              "connect the drive, or create the folder if this is its first use");
}

}  // namespace

std::string OpenedPlace::name() const {
  return drive ? drive->name : root.substr(root.rfind('/') + 1);
}

static void look_below(const std::filesystem::path& folder, int levels, std::vector<std::string>& found) {
  namespace fs = std::filesystem;
  std::error_code code;
  if (fs::exists(folder / drive_name, code)) {
    found.push_back(folder.string());
    return;
  }
  constexpr auto skip = fs::directory_options::skip_permission_denied;
  for (fs::directory_iterator at(folder, skip, code), end; levels > 0 && !code && at != end;
       at.increment(code)) {
    std::error_code kind;
    if (at->symlink_status(kind).type() == fs::file_type::directory)
      look_below(at->path(), levels - 1, found);
  }
}

std::string destination_in(const std::string& top) {
  std::vector<std::string> found;
  look_below(top, 2, found);
  if (found.empty()) return top;
  if (found.size() > 1) {
    std::sort(found.begin(), found.end());
    for (std::string& one : found) one = printable(one);
    throw Error(ErrorKind::usage, "several destinations are in " + printable(top),
                "name one of them:\n  " + join(found, "\n  "));
  }
  return found[0];
}

OpenedPlace open_place(const DestinationAddress& address, const OpenStore& open_store) {
  OpenedPlace place;
  place.root = locate_destination(address);
  struct stat status {};
  if (stat(place.root.c_str(), &status) != 0) not_there(place.root, errno);
  if (!S_ISDIR(status.st_mode))
    throw Error(ErrorKind::no_destination,
                "the destination " + printable(place.root) + " is a file, not a folder",
                "name a folder in [where] destinations");
  place.folder_identity = {status.st_dev, status.st_ino};
  place.facts = drive_facts(place.root);
  place.store = open_store(place.root);
  try {
    place.drive = read_drive(*place.store);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage) throw;
    place.drive_trouble = error;
  }
  return place;
}

std::optional<JobPlace> identify_job(const Store& store, const std::string& folder) {
  JobPlace place;
  place.folder = folder;
  try {
    if (std::optional<JobIdentity> identity = read_job_identity(store, folder)) {
      place.identity = *identity;
      return place;
    }
    place.finding = store.describe(in_folder(folder, job_identity_name)) + " is missing";
  } catch (const Error& error) {
    if (error.system_code() == EACCES) return std::nullopt;
    if (error.kind() != ErrorKind::damage) throw;
    place.finding = error.what();
  }
  std::optional<JobIdentity> identity = identity_by_seals(store, folder);
  if (!identity) return std::nullopt;
  place.identity = *identity;
  return place;
}

std::vector<JobPlace> list_jobs_at(const Store& store) {
  std::vector<JobPlace> places;
  auto take = [&](const std::string& folder) {
    std::optional<JobPlace> place = identify_job(store, folder);
    if (place) places.push_back(std::move(*place));
    return place.has_value();
  };
  // The place itself may be one, or one machine's, that was copied without the rest.
  if (!store.exists(drive_name) && take("")) return places;
  for (const StoreEntry& machine : list_if_allowed(store, "")) {
    if (!machine.folder || take(machine.name)) continue;
    for (const StoreEntry& job : list_if_allowed(store, machine.name)) {
      if (job.folder) take(machine.name + "/" + job.name);
    }
  }
  return places;
}

}  // namespace kestrum
