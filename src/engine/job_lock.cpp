#include "engine/job_lock.hpp"

#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <fstream>
#include <mutex>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "archive/job_folder.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::ordered_json;

std::string boot_id() {
  std::ifstream file("/proc/sys/kernel/random/boot_id");
  std::string id;
  std::getline(file, id);
  return id;
}

// Clock ticks after boot at which the process started: tells a reused process number from the old one.
std::string process_start(pid_t pid) {
  std::ifstream file("/proc/" + std::to_string(pid) + "/stat");
  std::string text;
  std::getline(file, text);
  std::size_t end = text.rfind(')');
  if (end == std::string::npos) return {};
  std::istringstream fields(text.substr(end + 1));
  std::string field;
  for (int i = 0; i < 20 && (fields >> field); ++i) {
  }
  return field;
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
  std::string machine, boot, start, token;
  pid_t pid = 0;
};

std::optional<Holder> read_holder(const Store& store, const std::string& path) {
  Json json;
  try {
    Bytes text = store.read_all(path, 4096);
    json = Json::parse(text.begin(), text.end(), nullptr, false);
  } catch (const Error&) {
    return std::nullopt;  // released meanwhile, or torn
  }
  Holder holder;
  auto text = [&](const char* name) {
    return json.is_object() ? json.value(name, std::string()) : std::string();
  };
  holder.machine = text("machine");
  holder.boot = text("boot");
  holder.start = text("start");
  holder.token = text("token");
  if (json.is_object() && json.contains("pid") && json["pid"].is_number_integer())
    holder.pid = json["pid"].get<pid_t>();
  return holder;
}

bool is_gone(const Holder& holder, const std::string& machine) {
  if (holder.token.empty()) return true;  // torn while it was being written
  if (holder.boot == boot_id() && holder.pid == getpid()) return !is_held_here(holder.token);
  if (holder.boot == boot_id()) return process_start(holder.pid) != holder.start;
  return holder.machine == machine;  // this machine, before it was started again
}

}  // namespace

JobLock::JobLock(Store& store, const std::string& folder, const std::string& machine)
    : store_(store),
      path_(folder.empty() ? lock_name : folder + "/" + lock_name),
      token_(to_hex(random_bytes(16))) {
  Json json{{"machine", to_utf8(machine)},
            {"boot", boot_id()},
            {"pid", getpid()},
            {"start", process_start(getpid())},
            {"token", token_}};
  std::string text = json.dump() + "\n";
  for (int attempt = 0; attempt < 3; ++attempt) {
    set_held(token_, true);
    try {
      if (store_.create_exclusive(path_, as_bytes(text))) return;
    } catch (...) {
      set_held(token_, false);
      throw;
    }
    set_held(token_, false);
    std::optional<Holder> holder = read_holder(store_, path_);
    if (!holder) continue;
    if (!is_gone(*holder, machine)) {
      std::string who = holder->boot == boot_id() ? "process " + std::to_string(holder->pid)
                                                  : "the machine " + printable(holder->machine);
      throw Error(ErrorKind::busy, "another run is writing this job's sets (" + who + ")",
                  "wait until it has ended; if it surely is not running, remove " + store_.describe(path_));
    }
    // Moved aside under a name of our own first: of two that find it stale, one succeeds.
    std::string aside = path_ + "." + token_;
    try {
      store_.rename(path_, aside);
      store_.remove(aside);
    } catch (const Error&) {
      continue;
    }
  }
  throw Error(ErrorKind::busy, "another run is starting at the same moment", "try again");
}

void JobLock::check() const {
  std::optional<Holder> holder = store_.exists(path_) ? read_holder(store_, path_) : std::nullopt;
  if (!holder || holder->token != token_) {
    throw Error(ErrorKind::busy, "the lock of this job was taken by somebody else",
                "see who else runs this job into " + store_.describe(""));
  }
}

JobLock::~JobLock() {
  set_held(token_, false);
  try {
    check();
    store_.remove(path_);
  } catch (const Error&) {
    // Not ours any more, or the drive is gone: a lock whose process has ended is taken over by the next run.
  }
}

}  // namespace kestrum
