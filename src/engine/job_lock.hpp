// One writer a job's folder: a file that says who holds it, and on the same machine a lock of the kernel's.
#pragma once

#include <chrono>
#include <functional>
#include <memory>
#include <string>
#include <thread>

#include "base/run_control.hpp"
#include "store/store.hpp"

namespace kestrum {

// Heartbeats are written for other machines, which know neither our processes nor our clock.
struct LockTiming {
  std::chrono::milliseconds beat = std::chrono::seconds(30);  // at most so far apart
  // A holder on another machine whose heartbeat stood still for so long of our own monotonic clock is dead.
  std::chrono::milliseconds dead = std::chrono::minutes(10);
};

struct LockRequest {
  std::string machine;
  bool shared = false;      // other machines may reach the place at the same moment
  bool break_lock = false;  // a person says that the other machine's holder is gone
  LockTiming timing = {};
  std::function<void(const std::string&)> note = {};
  RunControl* control = nullptr;  // asked while a heartbeat is waited for; may be nullptr
};

// Held until destroyed. The store must outlive it; the folder must be there. On the same machine a lock whose
// process is gone is taken over; one of another machine only when a person says so, and where that machine
// could be writing this very moment, only once its heartbeat has stood still.
class JobLock {
 public:
  // A file beside the lock that holds some room of the drive: docs/FORMAT.md section 2.
  static constexpr const char* room_name = "room.tmp";
  static constexpr std::uint64_t room_bytes = 64u << 10;
  // Throws Error of kind busy when somebody else holds it, Stopped while it waits.
  JobLock(Store& store, const std::string& folder, const LockRequest& request);
  ~JobLock();
  JobLock(const JobLock&) = delete;
  JobLock& operator=(const JobLock&) = delete;
  // Throws busy when the lock is not ours any more. Asked before a seal and before anything is removed.
  void check() const;

 private:
  // What is known of the holder of a lock or claim.
  enum class Life {
    gone,             // its process has ended
    alive,            // it has not
    torn,             // the file does not say who it is
    elsewhere,        // on another machine
    perhaps_a_clone,  // this machine before it was started again, or another one that is its copy
  };
  Life life_of(const Bytes& text) const;
  bool stays_torn(const Bytes& seen) const;
  // Returns when that lock may be taken over; throws busy otherwise.
  void settle_with(const Bytes& seen, Life life);
  bool create_lock();
  void keep_room();
  void acquire();
  bool take_over(const Bytes& seen);
  void wait_for_silence(const std::string& token);
  void clear_leftovers();
  void start_heartbeat();
  std::string beat_path(const std::string& token) const { return path_ + ".beat-" + token; }
  [[noreturn]] void refuse(const std::string& who, const std::string& hint) const;

  static constexpr std::chrono::milliseconds torn_wait = std::chrono::seconds(1);

  Store& store_;
  LockRequest request_;
  std::string folder_;
  std::string path_;
  std::string token_;
  std::string text_;  // of the file
  std::unique_ptr<StoreHold> hold_;
  std::jthread heart_;
};

}  // namespace kestrum
