#include "engine/home.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/hex_array.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

void make_folders(const std::string& path) {
  std::error_code code;
  fs::create_directories(path, code);
  if (code) throw system_error("create the folder", path, code.value());
}

// Temporary files that nobody writes to any more: what a killed process has left.
// Read plainly: the folder of logs grows by a file a run.
void clear_temporaries(const std::string& folder) {
  std::unique_ptr<DIR, int (*)(DIR*)> dir(opendir(folder.c_str()), closedir);
  while (dirent* item = dir ? readdir(dir.get()) : nullptr) {
    if (!std::string_view(item->d_name).ends_with(".tmp")) continue;
    struct stat status {};
    // Another process of this home may be writing one this very moment.
    constexpr std::int64_t old_enough = 60;  // seconds
    bool old = fstatat(dirfd(dir.get()), item->d_name, &status, AT_SYMLINK_NOFOLLOW) == 0 &&
               S_ISREG(status.st_mode) && SystemClock().now().seconds - status.st_mtim.tv_sec > old_enough;
    if (old) unlinkat(dirfd(dir.get()), item->d_name, 0);
  }
}

template <std::size_t N>
std::array<std::uint8_t, N> hex_array(const Json& json) {
  return array_from_hex<N>(json.get<std::string>()).value();
}

WatchedSet watched_set(const Json& json) {
  WatchedSet set;
  set.set = hex_array<16>(json.at("set"));
  set.watch = hex_array<16>(json.at("watch"));
  set.period = json.at("period").get<std::uint64_t>();
  set.selection = json.at("selection").get<std::string>();
  for (const Json& path : json.at("again")) {
    const Bytes bytes = from_hex(path.get<std::string>()).value();
    set.again.push_back(TreePath::from_joined(std::string(bytes.begin(), bytes.end())).value());
  }
  return set;
}

Json json_of(const WatchedSet& set) {
  Json again = Json::array();
  for (const TreePath& path : set.again) again.push_back(to_hex(as_bytes(path.joined())));
  return {{"set", to_hex(set.set)},
          {"watch", to_hex(set.watch)},
          {"period", set.period},
          {"selection", set.selection},
          {"again", std::move(again)}};
}

}  // namespace

void Home::make_state_folder() const {
  if (fs::exists(state_)) return;
  make_folders(state_);
  // Logs and ledger name files that others may not know of.
  std::error_code code;
  fs::permissions(state_, fs::perms::owner_all, code);
}

void Home::make_folder_of(const std::string& state_file) const {
  make_state_folder();
  const std::string folder = fs::path(state_file).parent_path().string();
  make_folders(folder);
  clear_temporaries(folder);
}

std::string Home::ledger_path() const {
  make_state_folder();
  return ledger_file();
}

std::string Home::log_path(const std::string& job, const std::string& name) const {
  make_state_folder();
  std::string folder = state_ + "/logs/" + job;
  make_folders(folder);
  clear_temporaries(folder);
  return folder + "/" + name + ".log";
}

std::string Home::scratch_folder() const {
  try {
    make_state_folder();
    make_folders(state_ + "/scratch");
    if (access((state_ + "/scratch").c_str(), W_OK) == 0) return state_ + "/scratch";
  } catch (const Error&) {
    // What is put there is encrypted and has no name: any place serves.
  }
  std::error_code code;
  fs::path other = fs::temp_directory_path(code);
  return code ? "/tmp" : other.string();
}

void Home::make_jobs_folder() const {
  make_folders(jobs_folder());
}

std::vector<std::string> Home::job_names() const {
  std::vector<std::string> names;
  std::error_code code;
  for (const fs::directory_entry& entry : fs::directory_iterator(jobs_folder(), code)) {
    if (entry.path().extension() == ".toml") names.push_back(entry.path().stem().string());
  }
  if (code && code != std::errc::no_such_file_or_directory)
    throw system_error("list", jobs_folder(), code.value());
  std::sort(names.begin(), names.end());
  return names;
}

bool Home::has_job(const std::string& name) const {
  return name.find('/') == std::string::npos && !name.empty() && fs::exists(job_path(name));
}

Job Home::load_job(const std::string& name) const {
  if (!has_job(name)) {
    std::vector<std::string> names = job_names();
    std::optional<std::string> near = nearest(name, names);
    std::string hint =
        near ? "did you mean '" + *near + "'?"
        : names.empty()
            ? "define one with: kestrum job define NAME --what-folders FOLDER --where-destinations FOLDER"
            : "the jobs are: " + join(names, ", ");
    throw Error(ErrorKind::usage, "there is no job '" + printable(name) + "'", hint);
  }
  Bytes text = read_believed_file(job_path(name), 1u << 20);
  return parse_job(name, job_path(name), std::string(as_text(text)));
}

void Home::create_job(const std::string& name, const std::string& text) const {
  if (has_job(name)) {
    throw Error(ErrorKind::usage, "there is a job '" + printable(name) + "' already",
                "choose another name, or change " + printable(job_path(name)));
  }
  make_folders(jobs_folder());
  // Memory first: without the job it is harmless.
  if (!fs::exists(state_file(name))) save_state(name, new_memory());
  replace_file(job_path(name), as_bytes(text), 0644);
}

JobState Home::new_memory() const {
  JobState state;
  state.job = random_id();
  state.machine = machine_;
  return state;
}

Id Home::mark() const {
  Bytes named = to_bytes(machine_);
  const ByteView folder = as_bytes(config_);
  named.insert(named.end(), folder.begin(), folder.end());
  const Digest all = digest(named);
  Id out{};
  std::copy_n(all.begin(), out.size(), out.begin());
  return out;
}

// `mode`: of one that is not there yet.
static void change_file(const std::string& path, const std::string& before, const std::string& text,
                        unsigned mode) {
  struct stat status {};
  const bool there = stat(path.c_str(), &status) == 0;
  if ((there ? as_text(read_small_file(path, 1u << 20)) : std::string_view()) != before)
    throw Error(ErrorKind::failed,
                printable(path) + " was changed by somebody else meanwhile; it is left as it is",
                "look at it, and make the change again");
  replace_file(path, as_bytes(text), there ? status.st_mode & 07777 : mode);
}

void Home::change_job(const std::string& name, const std::string& before, const std::string& text) const {
  if (!has_job(name)) throw system_error("read", job_path(name), ENOENT);
  change_file(job_path(name), before, text, 0644);
}

Settings Home::load_settings() const {
  const std::string path = settings_file();
  std::error_code code;
  if (!fs::exists(path, code) && !code) return parse_settings(path, "");
  const Bytes text = read_believed_file(path, 1u << 20);
  return parse_settings(path, std::string(as_text(text)));
}

void Home::change_settings(const std::string& before, const std::string& text) const {
  make_folders(config_);
  change_file(settings_file(), before, text, 0600);
}

void Home::remove_job(const std::string& name) const {
  if (unlink(job_path(name).c_str()) != 0) throw system_error("remove", job_path(name), errno);
  // Of another job of that name nothing was told yet.
  for (const std::string& told : {tell_file(name), desk_file(name), page_trouble_file(name), way_file(name)})
    unlink(told.c_str());
}

void Home::rename_job(const std::string& from, const std::string& to) const {
  check_job_name(to);
  load_job(from);
  const auto taken = [&] {
    throw Error(ErrorKind::usage, "there is a job '" + printable(to) + "' already", "choose another name");
  };
  if (has_job(to)) taken();
  if (std::optional<JobState> state = load_state(from)) {
    save_state(to, *state);
  } else {
    unlink(state_file(to).c_str());
  }
  if (renameat2(AT_FDCWD, job_path(from).c_str(), AT_FDCWD, job_path(to).c_str(), RENAME_NOREPLACE) != 0) {
    if (errno == EEXIST) taken();
    throw system_error("rename", job_path(from), errno);
  }
  unlink(state_file(from).c_str());
  rename(last_good_file(from).c_str(), last_good_file(to).c_str());
  rename(steering_file(from).c_str(), steering_file(to).c_str());
  rename(tell_file(from).c_str(), tell_file(to).c_str());
  rename(desk_file(from).c_str(), desk_file(to).c_str());
  rename(way_file(from).c_str(), way_file(to).c_str());
  unlink(page_trouble_file(from).c_str());
  unlink(watch_file(from).c_str());
}

std::optional<JobState> Home::load_state(const std::string& job) const {
  std::string path = state_file(job);
  if (!fs::exists(path)) return std::nullopt;
  Bytes text = read_small_file(path, 16u << 20);
  try {
    Json json = Json::parse(text.begin(), text.end());
    JobState state;
    state.job = hex_array<16>(json.at("job"));
    if (json.contains("machine")) state.machine = hex_array<16>(json.at("machine"));
    if (!json.at("naming").is_null()) state.naming = SecretKey(hex_array<32>(json.at("naming")));
    state.naming_known = json.value("naming-known", true);
    for (const Json& one : json.at("drives")) {
      DriveState& drive = state.drives.emplace_back();
      drive.drive = hex_array<16>(one.at("drive"));
      drive.destination = one.at("destination").get<std::string>();
      drive.highest = one.at("highest").get<Sequence>();
      if (!one.at("newest-core").is_null()) drive.newest_core = hex_array<32>(one.at("newest-core"));
      drive.written = parse_utc(one.at("written").get<std::string>()).value();
      drive.newest_folder = one.value("newest-folder", std::string());
      drive.accepted = one.value("accepted", Sequence{0});
      if (one.contains("begun")) drive.begun = hex_array<16>(one.at("begun"));
      if (const Json left = one.value("left", Json::object()); !left.empty())
        drive.left = {left.at("point").get<Sequence>(), left.at("bytes").get<std::uint64_t>(),
                      left.at("expected-bytes").get<std::uint64_t>()};
      for (const Json& set : one.value("watched", Json::array())) drive.watched.push_back(watched_set(set));
    }
    for (const auto& [chain, check] : json.at("chain-keys").items()) {
      state.chain_keys[hex_array<16>(Json(chain))] = hex_array<32>(check);
    }
    for (const Json& chain : json.value("closed-chains", Json::array()))
      state.closed_chains.insert(hex_array<16>(chain));
    for (const Json& entry : json.value("leaving", Json::array())) state.leaving.insert(hex_array<8>(entry));
    // Copied from another machine before it ever ran: this machine's job is one of its own.
    const bool of_another = state.machine != Id{} && machine_ != Id{} && state.machine != machine_;
    return of_another && state.drives.empty() ? new_memory() : state;
  } catch (const std::exception&) {
    throw Error(
        ErrorKind::failed,
        "what this machine remembers of the job '" + printable(job) + "' does not read: " + printable(path),
        "move that file away; the next run learns what it needs from the destination");
  }
}

void Home::save_state(const std::string& job, const JobState& state) const {
  Json chains = Json::object();
  for (const auto& [chain, check] : state.chain_keys) chains[to_hex(chain)] = to_hex(check);
  Json closed = Json::array();
  for (const Id& chain : state.closed_chains) closed.push_back(to_hex(chain));
  Json leaving = Json::array();
  for (const auto& entry : state.leaving) leaving.push_back(to_hex(entry));
  Json drives = Json::array();
  for (const DriveState& drive : state.drives) {
    Json watched = Json::array();
    for (const WatchedSet& set : drive.watched) watched.push_back(json_of(set));
    drives.push_back({{"drive", to_hex(drive.drive)},
                      {"destination", drive.destination},
                      {"highest", drive.highest},
                      {"newest-core", drive.newest_core ? Json(to_hex(*drive.newest_core)) : Json(nullptr)},
                      {"newest-folder", drive.newest_folder},
                      {"written", utc_text(drive.written)},
                      {"accepted", drive.accepted},
                      {"begun", to_hex(drive.begun)},
                      {"watched", watched}});
    if (drive.left.sequence != 0)
      drives.back()["left"] = {{"point", drive.left.sequence},
                               {"bytes", drive.left.bytes},
                               {"expected-bytes", drive.left.expected_bytes}};
  }
  Json json{{"version", 2},
            {"job", to_hex(state.job)},
            {"machine", to_hex(state.machine)},
            {"naming", state.naming ? Json(to_hex(state.naming->view())) : Json(nullptr)},
            {"naming-known", state.naming_known},
            {"drives", drives},
            {"chain-keys", chains},
            {"closed-chains", closed},
            {"leaving", leaving}};
  make_folder_of(state_file(job));
  replace_file(state_file(job), as_bytes(json.dump(1) + "\n"), 0600);
}

const DriveState* JobState::drive(const Id& id) const {
  for (const DriveState& one : drives) {
    if (one.drive == id) return &one;
  }
  return nullptr;
}

const DriveState* JobState::at(const std::string& destination) const {
  const DriveState* found = nullptr;
  for (const DriveState& one : drives) {
    if (one.destination == destination && (found == nullptr || one.written >= found->written)) found = &one;
  }
  return found;
}

DriveState& JobState::use(const Id& id, const std::string& destination) {
  for (DriveState& one : drives) {
    if (one.drive != id) continue;
    one.destination = destination;
    return one;
  }
  DriveState& added = drives.emplace_back();
  added.drive = id;
  added.destination = destination;
  return drives.back();
}

Digest key_check(const SecretKey& master) {
  return keyed_digest(derive(master, "pin", {}), {});
}

}  // namespace kestrum
