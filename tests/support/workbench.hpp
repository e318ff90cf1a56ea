// A home, a source, a destination and a job, for tests that run the engine in process.
#pragma once

#include "engine/backup.hpp"
#include "engine/point_standing.hpp"
#include "engine/prune.hpp"
#include "engine/restore.hpp"
#include "engine/verify.hpp"
#include "support/memory_store.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {

// The store that a workbench begins with.
inline OpenStore usual_store = open_local_store;
// As long as it lives: a store for objects, with its habits.
struct UseObjects {
  UseObjects();
  ~UseObjects() { usual_store = open_local_store; }
};

class Workbench {
 public:
  // `settings`: more lines of the job file, complete tables besides [what], [where].
  explicit Workbench(const std::string& settings = "[protect]\nencryption = \"none\"\n",
                     const std::string& more_where = "");

  std::string source() const { return folder_ / "source"; }
  std::string drive() const { return folder_ / "drive"; }
  std::string path(const std::string& name) const { return folder_ / name; }
  const Home& home() const { return home_; }
  void set_job(const std::string& text);
  // Other lines of the [keep] table, which stands last.
  void set_keep(const std::string& lines);

  RunOutcome run(std::optional<Kind> kind = std::nullopt);
  // Stopped by a person once it has gone through so many bytes of the sources.
  RunOutcome run_stopped_at(std::uint64_t bytes);
  // Expects it to end with a point; returns its number.
  Sequence run_good(std::optional<Kind> kind = std::nullopt);
  RunContext context() const { return context_of(*observer, control); }
  // Folds that range, or what the keep rules let go; returns how many points went.
  std::uint64_t fold(std::optional<Sequence> first = {}, std::optional<Sequence> last = {});
  // Every file that is there now counts as written long ago: not fresh.
  void settle_files() { file_clock = &late_; }
  // Numbers of the sealed points.
  std::vector<Sequence> points() const;
  LookSession subject(const std::string& what = "job") const;
  // Restores everything below the source of that point and gives what is there.
  Snapshot restored(Sequence sequence);
  // Restores everything below the source into `target`, whatever the problems.
  RestoreResult restore_to(const std::string& target, Sequence sequence = 0, Clash clash = Clash::keep_both);
  VerifyResult verified(Depth depth = Depth::all);
  // The folder of a set, on this machine.
  std::string set_folder(Sequence sequence) const;

  OpenStore open_store = usual_store;
  Argon2Cost key_cost{8, 1};  // the least there is
  Observer* observer = &silent_;
  SystemClock system_clock;
  const Clock* clock = &system_clock;
  const Clock* file_clock = nullptr;  // the system's
  mutable RunControl control;
  LockTiming lock_timing;
  bool break_lock = false;
  bool moved = false;
  bool new_passphrase = false;
  std::uint64_t journal_step = 16u << 20;

 private:
  RunContext context_of(Observer& watching, RunControl& steering) const;
  // The system's, some seconds ahead.
  struct LateClock final : Clock {
    Instant now() const override {
      Instant now = SystemClock().now();
      now.seconds += 10;
      return now;
    }
  };
  LateClock late_;
  TempFolder folder_;
  Home home_;
  Observer silent_;
  int restores_ = 0;
};

}  // namespace kestrum::test
