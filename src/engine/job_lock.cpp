#include "engine/job_lock.hpp"

#include <unistd.h>

#include <condition_variable>
#include <fstream>
#include <mutex>
#include <nlohmann/json.hpp>
#include <set>

#include "archive/crypto.hpp"
#include "archive/job_folder.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::ordered_json;
constexpr std::uint64_t most_bytes = 4096;

// This installation of a system; clones of a machine may share it. Empty where there is none.
std::string machine_id() {
  std::ifstream file("/etc/machine-id");
  std::string id;
  std::getline(file, id);
  return id;
}

// Locks that this process holds. One that it could not remove (the drive failed) is none of them any more.
std::mutex held_mutex;
std::set<std::string> held_tokens;

void set_held(const std::string& token, bool held) {
  std::lock_guard lock(held_mutex);
  if (held) {
    held_tokens.insert(token);
  } else {
    held_tokens.erase(token);
  }
}

bool is_held_here(const std::string& token) {
  std::lock_guard lock(held_mutex);
  return held_tokens.contains(token);
}

struct Holder {
  std::string machine, machine_id, boot, space, start, token;
  pid_t pid = 0;
};

Holder holder_of(const Bytes& text) {
  Json json = Json::parse(text.begin(), text.end(), nullptr, false);
  Holder holder;
  if (!json.is_object()) return holder;
  auto member = [&](const char* name) {
    auto found = json.find(name);
    return found != json.end() && found->is_string() ? found->get<std::string>() : std::string();
  };
  holder.machine = member("machine");
  holder.machine_id = member("machine-id");
  holder.boot = member("boot");
  holder.space = member("processes");
  holder.start = member("start");
  holder.token = member("token");
  if (auto pid = json.find("pid"); pid != json.end() && pid->is_number_integer())
    holder.pid = pid->get<pid_t>();
  // It becomes a part of a file's name.
  if (!from_hex(holder.token)) holder.token.clear();
  return holder;
}

bool is_of_this_boot(const Holder& holder) {
  return holder.boot == boot_id();
}

bool is_in_our_processes(const Holder& holder) {
  return is_of_this_boot(holder) && (holder.space.empty() || holder.space == process_space());
}

std::string who(const Holder& holder) {
  if (is_in_our_processes(holder)) return "process " + std::to_string(holder.pid);
  if (is_of_this_boot(holder)) return "process " + std::to_string(holder.pid) + " in a container";
  return "the machine " + printable(holder.machine);
}

}  // namespace

JobLock::JobLock(Store& store, const std::string& folder, const LockRequest& request)
    : store_(store),
      request_(request),
      folder_(folder),
      path_(folder.empty() ? lock_name : folder + "/" + lock_name),
      token_(to_hex(random_bytes(16))) {
  text_ = Json{{"machine", to_utf8(request.machine)},
               {"machine-id", machine_id()},
               {"boot", boot_id()},
               {"processes", process_space()},
               {"pid", getpid()},
               {"start", process_start(getpid())},
               {"token", token_}}
              .dump() +
          "\n";
  hold_ = store_.hold(folder);
  if (!hold_) {
    std::optional<Bytes> there = store_.try_read_all(path_, most_bytes);
    Holder holder = there ? holder_of(*there) : Holder{};
    refuse(holder.token.empty() ? "" : who(holder), "wait until it has ended");
  }
  set_held(token_, true);
  try {
    acquire();
  } catch (...) {
    set_held(token_, false);
    throw;
  }
  try {
    clear_leftovers();
  } catch (const Error&) {
    // What a killed process has left beside the lock is in nobody's way.
  }
  keep_room();
  if (request_.shared) start_heartbeat();
}

void JobLock::refuse(const std::string& who, const std::string& hint) const {
  throw Error(ErrorKind::busy,
              "another run is writing this job's sets" + (who.empty() ? std::string() : " (" + who + ")"),
              hint);
}

// What the holder's own words and this system tell of it.
JobLock::Life JobLock::life_of(const Bytes& text) const {
  Holder holder = holder_of(text);
  if (holder.token.empty()) return Life::torn;
  auto gone_if = [](bool gone) { return gone ? Life::gone : Life::alive; };
  if (is_of_this_boot(holder)) {
    if (is_in_our_processes(holder) && holder.pid == getpid()) return gone_if(!is_held_here(holder.token));
    // Nobody on this kernel has the folder but we.
    if (hold_->keeps_out()) return Life::gone;
    return is_in_our_processes(holder) ? gone_if(process_start(holder.pid) != holder.start) : Life::alive;
  }
  bool same =
      holder.machine == request_.machine && (holder.machine_id.empty() || holder.machine_id == machine_id());
  if (!same) return Life::elsewhere;
  // This machine, before it was started again; or a clone of it, which only its heartbeat tells.
  return request_.shared ? Life::perhaps_a_clone : Life::gone;
}

// It may be written this very moment, where a file cannot be made with its content in one step.
bool JobLock::stays_torn(const Bytes& seen) const {
  auto until = std::chrono::steady_clock::now() + std::min(request_.timing.dead, torn_wait);
  while (std::chrono::steady_clock::now() < until) {
    if (request_.control != nullptr) request_.control->checkpoint();
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
    if (store_.try_read_all(path_, most_bytes) != seen) return false;
  }
  return true;
}

void JobLock::settle_with(const Bytes& seen, Life life) {
  const Holder holder = holder_of(seen);
  switch (life) {
    case Life::gone:
    case Life::torn:
      return;
    case Life::perhaps_a_clone:
      return wait_for_silence(holder.token);
    case Life::alive:
      refuse(who(holder), "wait until it has ended");
    case Life::elsewhere:
      if (!request_.break_lock)
        refuse(who(holder),
               "wait until it has ended; if that machine surely does not write any more, give --break-lock");
      if (request_.shared) wait_for_silence(holder.token);
      if (request_.note) request_.note("the lock of " + who(holder) + " is broken, as asked");
  }
}

// On a drive that is full to the last block there is room for the lock all the same, so that something can be
// removed: it was taken when there was some.
bool JobLock::create_lock() {
  try {
    return store_.create_exclusive(path_, as_bytes(text_));
  } catch (const Error& error) {
    const std::string room = in_folder(folder_, room_name);
    if (error.kind() != ErrorKind::full || !store_.exists(room)) throw;
    store_.remove(room);
    return store_.create_exclusive(path_, as_bytes(text_));
  }
}

void JobLock::keep_room() {
  const std::string room = in_folder(folder_, room_name);
  try {
    if (store_.traits().reserves && !store_.exists(room)) store_.reserve(room, room_bytes);
  } catch (const Error&) {
    try {
      store_.remove(room);  // the drive is full: once there is room again, it is kept again
    } catch (const Error&) {
      // Then there is nothing to be done about it here.
    }
  }
}

void JobLock::acquire() {
  for (int attempt = 0; attempt < 20; ++attempt) {
    if (create_lock()) return;
    std::optional<Bytes> seen = store_.try_read_all(path_, most_bytes);
    if (!seen) continue;  // released meanwhile
    Life life = life_of(*seen);
    if (life == Life::torn && !stays_torn(*seen)) continue;
    settle_with(*seen, life);
    if (take_over(*seen)) return;
  }
  throw Error(ErrorKind::busy, "another run is starting at the same moment", "try again");
}

// Who takes a lock over must hold the claim to it, so that of several one goes on; and nobody moves away what
// is not the stale lock any more.
bool JobLock::take_over(const Bytes& seen) {
  std::string claim = path_ + ".claim-" + to_hex(digest(seen)).substr(0, 32);
  if (!store_.create_exclusive(claim, as_bytes(text_))) {
    std::optional<Bytes> other = store_.try_read_all(claim, most_bytes);
    Life life = other ? life_of(*other) : Life::alive;
    if (life == Life::gone || life == Life::torn || life == Life::perhaps_a_clone) store_.remove(claim);
    return false;
  }
  bool taken = false;
  try {
    std::string aside = path_ + "." + token_ + ".tmp";
    std::optional<Bytes> now = store_.try_read_all(path_, most_bytes);
    if (now == seen && store_.traits().renames) {
      store_.rename(path_, aside);
      // Its owner was alive after all, let it go, and somebody else has it: that one gets it back.
      std::optional<Bytes> moved = store_.try_read_all(aside, most_bytes);
      if (moved && moved != seen) store_.create_exclusive(path_, *moved);
      store_.remove(aside);
    } else if (now == seen) {
      store_.remove(path_);
    }
    taken = store_.create_exclusive(path_, as_bytes(text_));
  } catch (...) {
    store_.remove(claim);
    throw;
  }
  store_.remove(claim);
  return taken;
}

// Returns when the heartbeat of that holder has stood still for long enough; throws busy when it goes on.
void JobLock::wait_for_silence(const std::string& token) {
  auto beat = [&] { return store_.try_read_all(beat_path(token), most_bytes); };
  std::optional<Bytes> first = beat();
  if (request_.note)
    request_.note("waiting for " +
                  duration_text(std::chrono::duration_cast<std::chrono::nanoseconds>(request_.timing.dead)) +
                  " whether the other machine still writes");
  auto until = std::chrono::steady_clock::now() + request_.timing.dead;
  while (std::chrono::steady_clock::now() < until) {
    if (request_.control != nullptr) request_.control->checkpoint();
    std::this_thread::sleep_for(std::min(request_.timing.beat / 2, std::chrono::milliseconds(1000)));
    if (beat() != first)
      throw Error(ErrorKind::busy, "the other machine is still writing this job's sets: its lock was renewed",
                  "wait until it has ended");
  }
}

// What killed processes have left: files of their own beside the lock. Others' claims of this moment are on a
// lock that is gone; without them they look again.
void JobLock::clear_leftovers() {
  std::vector<std::string> left;
  for (const StoreEntry& entry : store_.list(folder_)) {
    if (!entry.folder && entry.name.starts_with(std::string(lock_name) + "."))
      left.push_back(folder_.empty() ? entry.name : folder_ + "/" + entry.name);
  }
  store_.remove_all(left);
}

void JobLock::start_heartbeat() {
  heart_ = std::jthread([this](std::stop_token stop) {
    std::mutex mutex;
    std::condition_variable_any woken;
    std::unique_lock lock(mutex);
    for (std::uint64_t beat = 1; !stop.stop_requested(); ++beat) {
      try {
        store_.put(beat_path(token_), as_bytes("{\"beat\":" + std::to_string(beat) + "}\n"));
      } catch (const Error&) {
        // The run itself will be told by what it does.
      }
      woken.wait_for(lock, stop, request_.timing.beat, [] { return false; });
    }
  });
}

void JobLock::check() const {
  std::optional<Bytes> there = store_.try_read_all(path_, most_bytes);
  if (!there || as_text(*there) != text_) {
    throw Error(ErrorKind::busy, "the lock of this job was taken by somebody else",
                "see who else runs this job into " + store_.describe(""));
  }
}

JobLock::~JobLock() {
  if (heart_.joinable()) {
    heart_.request_stop();
    heart_.join();
  }
  set_held(token_, false);
  try {
    if (request_.shared) store_.remove(beat_path(token_));
    check();
    store_.remove(path_);
  } catch (const Error&) {
    // Not ours any more, or the drive is gone: a lock whose process has ended is taken over by the next run.
  }
}

}  // namespace kestrum
