// One writer a job: processes that fight for it, locks left behind, locks of other machines.
#include <gtest/gtest.h>
#include <sys/file.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <fstream>
#include <thread>

#include "archive/job_folder.hpp"
#include "engine/job_lock.hpp"
#include "program/desk.hpp"
#include "support/memory_store.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Nothing but the room that is kept for a lock on a full drive.
bool only_room(const std::string& folder) {
  return std::all_of(fs::directory_iterator(folder), {},
                     [](const auto& entry) { return entry.path().filename() == JobLock::room_name; });
}

// What the fighting processes share.
struct Arena {
  std::atomic<int> holders{0};
  std::atomic<std::uint64_t> held{0}, busy{0}, twice{0}, lost{0}, odd{0};
};

class SharedArena {
 public:
  SharedArena()
      : arena_(new (mmap(nullptr, sizeof(Arena), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0))
                   Arena) {}
  ~SharedArena() { munmap(arena_, sizeof(Arena)); }
  Arena* operator->() { return arena_; }
  Arena& operator*() { return *arena_; }

 private:
  Arena* arena_;
};

// Takes the lock again and again; now and then leaves it as a killed process would.
void fight(Arena& arena, Store& store, int rounds, unsigned seed, bool abandons, bool other_machine) {
  std::mt19937 random(seed);
  for (int round = 0; round < rounds; ++round) {
    LockRequest request;
    request.machine = other_machine ? "skerry-" + std::to_string(seed) : "skerry-1";
    try {
      JobLock lock(store, "job", request);
      if (arena.holders.fetch_add(1) != 0) ++arena.twice;
      for (int look = 0; look < 3; ++look) {
        try {
          lock.check();
        } catch (const Error&) {
          ++arena.lost;
        }
        if (random() % 4 == 0) std::this_thread::yield();
      }
      arena.holders.fetch_sub(1);
      ++arena.held;
      // The next one finds the lock of a process that is not there any more.
      if (abandons && random() % 3 == 0) _exit(7);
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::busy) {
        ++arena.busy;
        usleep(static_cast<useconds_t>(random() % 300));
      } else {
        ++arena.odd;
      }
    }
  }
}

// `fighters` processes, each started anew when it has left its lock behind, until all rounds are through.
void hold_fights(Arena& arena, const std::string& root, int fighters, std::uint64_t rounds, bool abandons) {
  std::map<pid_t, int> running;
  unsigned seed = 1;
  auto start = [&] {
    unsigned own = ++seed;
    pid_t pid = fork();
    if (pid == 0) {
      auto store = open_local_store(root);
      fight(arena, *store, 200, own, abandons, false);
      _exit(0);
    }
    running[pid] = 1;
  };
  while (arena.held + arena.busy < rounds || !running.empty()) {
    while (static_cast<int>(running.size()) < fighters && arena.held + arena.busy < rounds) start();
    int status = 0;
    pid_t ended = wait(&status);
    running.erase(ended);
  }
}

TEST(LockFights, NobodyHoldsItTwiceAndNobodyLosesIt) {
  for (int fighters : {2, 3}) {
    TempFolder folder;
    fs::create_directories(folder / "job");
    SharedArena arena;
    hold_fights(*arena, folder.path(), fighters, fighters == 3 ? 5000 : 2000, false);
    EXPECT_EQ(arena->twice, 0u) << fighters;
    EXPECT_EQ(arena->lost, 0u) << fighters;
    EXPECT_EQ(arena->odd, 0u) << fighters;
    EXPECT_GT(arena->held, 100u) << fighters;
    EXPECT_GT(arena->busy, 10u) << fighters;
    EXPECT_TRUE(only_room(folder / "job"));
  }
}

TEST(LockFights, LocksLeftBehindAreTakenOverByOne) {
  TempFolder folder;
  fs::create_directories(folder / "job");
  SharedArena arena;
  hold_fights(*arena, folder.path(), 3, 4000, true);
  EXPECT_EQ(arena->twice, 0u);
  EXPECT_EQ(arena->lost, 0u);
  EXPECT_EQ(arena->odd, 0u);
  EXPECT_GT(arena->held, 100u);
}

// Without the kernel's lock, as between machines: a store that does not offer it.
class WithoutHold final : public ForwardingStore {
 public:
  explicit WithoutHold(const std::string& root) : ForwardingStore(open_local_store(root)) {}
  std::unique_ptr<StoreHold> hold(const std::string& path) override { return Store::hold(path); }
};

TEST(LockFights, TheFileAloneIsExclusiveToo) {
  TempFolder folder;
  fs::create_directories(folder / "job");
  SharedArena arena;
  std::vector<pid_t> pids;
  for (unsigned n = 0; n < 3; ++n) {
    pid_t pid = fork();
    if (pid == 0) {
      WithoutHold store(folder.path());
      fight(*arena, store, 1500, n + 1, false, false);
      _exit(0);
    }
    pids.push_back(pid);
  }
  for (pid_t pid : pids) waitpid(pid, nullptr, 0);
  EXPECT_EQ(arena->twice, 0u);
  EXPECT_EQ(arena->lost, 0u);
  EXPECT_EQ(arena->odd, 0u);
  EXPECT_GT(arena->held, 100u);
}

// One stale lock, several who find it at the same moment, no kernel's lock to keep them apart.
TEST(LockFights, AStaleLockIsTakenOverByOneOfSeveral) {
  TempFolder folder;
  fs::create_directories(folder / "job");
  const std::string stale =
      "{\"machine\":\"skerry-1\",\"boot\":\"before\",\"pid\":1,\"start\":\"5\",\"token\":\"ab\"}";
  for (int round = 0; round < 300; ++round) {
    write_file(folder / "job/lock", stale);
    SharedArena arena;
    int gate[2];
    ASSERT_EQ(pipe(gate), 0);
    std::vector<pid_t> pids;
    for (unsigned n = 0; n < 3; ++n) {
      pid_t pid = fork();
      if (pid == 0) {
        close(gate[1]);
        char none = 0;
        if (read(gate[0], &none, 1) < 0) _exit(1);
        WithoutHold store(folder.path());
        LockRequest request;
        request.machine = "skerry-1";
        try {
          JobLock lock(store, "job", request);
          if (arena->holders.fetch_add(1) != 0) ++arena->twice;
          std::this_thread::sleep_for(std::chrono::milliseconds(2));
          try {
            lock.check();
          } catch (const Error&) {
            ++arena->lost;
          }
          arena->holders.fetch_sub(1);
          ++arena->held;
        } catch (const Error&) {
          ++arena->busy;
        }
        _exit(0);
      }
      pids.push_back(pid);
    }
    close(gate[0]);
    close(gate[1]);
    for (pid_t pid : pids) waitpid(pid, nullptr, 0);
    ASSERT_EQ(arena->twice, 0u) << round;
    ASSERT_EQ(arena->lost, 0u) << round;
    ASSERT_GE(arena->held, 1u) << round;
  }
}

class Locks : public testing::Test {
 protected:
  void SetUp() override { fs::create_directories(folder_ / "job"); }
  LockRequest request(const std::string& machine = "skerry-1") const {
    LockRequest out;
    out.machine = machine;
    out.timing = {std::chrono::milliseconds(20), std::chrono::milliseconds(200)};
    return out;
  }
  std::string lock_file() const { return folder_ / "job/lock"; }

  TempFolder folder_;
  std::unique_ptr<Store> store_ = open_local_store(folder_.path());
};

TEST_F(Locks, IsExclusiveAndTakenOverWhenItsProcessIsGone) {
  {
    JobLock lock(*store_, "job", request());
    EXPECT_THROW(JobLock(*store_, "job", request()), Error);
    EXPECT_NO_THROW(lock.check());
    // Somebody else's in its place: ours no more, and not ours to remove.
    std::string other = read_file(lock_file());
    other.replace(other.find("\"token\":\"") + 9, 4, "0000");
    write_file(lock_file(), other);
    EXPECT_THROW(lock.check(), Error);
  }
  EXPECT_TRUE(fs::exists(lock_file()));
  for (const char* stale :
       {"", "{}", "{\"machine\":\"skerry-1\",\"boot\":\"before\",\"pid\":1,\"start\":\"5\",\"token\":\"ab\"}",
        "{\"machine\":\"skerry-1\",\"boot\":\"before\",\"pid\":1,\"start\":\"5\",\"token\":\"../../x\"}"}) {
    write_file(lock_file(), stale);
    EXPECT_NO_THROW(JobLock(*store_, "job", request())) << stale;
  }
}

const char* const others =
    "{\"machine\":\"skerry-2\",\"boot\":\"another\",\"pid\":1,\"start\":\"5\",\"token\":\"ab\"}";

TEST_F(Locks, OneOfAnotherMachineIsBrokenOnlyWhenAPersonSaysSo) {
  write_file(lock_file(), others);
  try {
    JobLock lock(*store_, "job", request());
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::busy);
    EXPECT_TRUE(holds(error.what(), "skerry-2"));
    EXPECT_TRUE(holds(error.hint(), "--break-lock"));
  }
  LockRequest breaking = request();
  breaking.break_lock = true;
  EXPECT_NO_THROW(JobLock(*store_, "job", breaking));
  EXPECT_FALSE(fs::exists(lock_file()));
}

TEST_F(Locks, APersonsWordDoesNotBreakALockThatIsAlive) {
  // The lock of a process of this machine: the system knows better.
  JobLock lock(*store_, "job", request());
  std::string alive = read_file(lock_file());
  LockRequest breaking = request();
  breaking.break_lock = true;
  WithoutHold without(folder_.path());
  EXPECT_THROW(JobLock(without, "job", breaking), Error);
  EXPECT_EQ(read_file(lock_file()), alive);
}

TEST_F(Locks, WhereOtherMachinesReachAHeartbeatIsWaitedFor) {
  write_file(lock_file(), others);
  LockRequest breaking = request();
  breaking.break_lock = true;
  breaking.shared = true;
  {
    // It goes on: the other machine is alive, whatever the person says.
    std::atomic<bool> stop{false};
    std::thread heart([&] {
      for (int beat = 0; !stop; ++beat) {
        write_file(folder_ / "job/lock.beat-ab", std::to_string(beat));
        std::this_thread::sleep_for(std::chrono::milliseconds(30));
      }
    });
    EXPECT_THROW(JobLock(*store_, "job", breaking), Error);
    stop = true;
    heart.join();
  }
  auto begun = std::chrono::steady_clock::now();
  {
    JobLock lock(*store_, "job", breaking);
    EXPECT_GE(std::chrono::steady_clock::now() - begun, std::chrono::milliseconds(200));
    std::this_thread::sleep_for(std::chrono::milliseconds(60));
    bool beats = false;
    for (const auto& entry : fs::directory_iterator(folder_ / "job"))
      beats = beats || entry.path().filename().string().starts_with("lock.beat-");
    EXPECT_TRUE(beats) << "its own heartbeat";
  }
  EXPECT_TRUE(only_room(folder_ / "job"));
}

TEST_F(Locks, WaitingForAHeartbeatCanBeStopped) {
  write_file(lock_file(), others);
  RunControl control;
  control.stop();
  LockRequest breaking = request();
  breaking.break_lock = breaking.shared = true;
  breaking.control = &control;
  EXPECT_THROW(JobLock(*store_, "job", breaking), Stopped);
}

// The built program: pairs started in the same moment.
TEST(LockFights, RunsStartedTogetherMakeTheirPointOrSayBusy) {
  Desk desk;
  for (int i = 0; i < 20; ++i) write_file(desk.source() + "/f" + std::to_string(i), std::string(2000, 'a'));
  ASSERT_EQ(desk.define({"--how-renew", "every 7 sets", "--keep-points", "1000 points"}, false).exit, 0);
  int made = 0, busy = 0;
  for (int round = 0; round < 40; ++round) {
    write_file(desk.source() + "/changing", std::to_string(round));
    std::vector<pid_t> pids;
    for (int n = 0; n < 3; ++n) pids.push_back(desk.program.start({"run", "wardens", "--quiet"}));
    int done = 0;
    for (pid_t pid : pids) {
      int code = Program::wait(pid);
      EXPECT_TRUE(code == 0 || code == 6) << code;
      done += code == 0 ? 1 : 0;
      busy += code == 6 ? 1 : 0;
    }
    EXPECT_GE(done, 1) << round;
    made += done;
  }
  EXPECT_GT(busy, 0) << "they should have met";
  EXPECT_EQ(desk({"verify", "wardens", "--depth", "quick"}).exit, 0);
  Ran points = desk({"points", "wardens", "--json"});
  std::size_t count = 0;
  for (std::size_t at = points.out.find("\"sealed\""); at != std::string::npos;
       at = points.out.find("\"sealed\"", at + 1))
    ++count;
  EXPECT_EQ(count, static_cast<std::size_t>(made))
      << desk({"points", "wardens"}).out << desk({"history", "wardens"}).out;
  for (const auto& entry : fs::directory_iterator(desk.job_folder()))
    EXPECT_FALSE(entry.path().filename().string().ends_with(".unfinished"));
}

// A lock file as its holder wrote it.
std::string lock_text(const std::string& machine, const std::string& machine_id, const std::string& boot,
                      const std::string& processes) {
  return "{\"machine\":\"" + machine + "\",\"machine-id\":\"" + machine_id + "\",\"boot\":\"" + boot +
         "\",\"processes\":\"" + processes + "\",\"pid\":1,\"start\":\"1\",\"token\":\"00112233\"}\n";
}

class LockOf : public testing::Test {
 protected:
  LockOf() {
    store_ = open_local_store(folder_ / "");
    store_->make_folders("job");
    request_.machine = "skerry-1";
    request_.timing = {std::chrono::milliseconds(50), std::chrono::milliseconds(300)};
    std::ifstream("/proc/sys/kernel/random/boot_id") >> boot_;
    std::ifstream("/etc/machine-id") >> id_;
  }
  std::optional<ErrorKind> take(const std::string& text) {
    write_file((folder_ / "job/") + lock_name, text);
    try {
      JobLock lock(*store_, "job", request_);
      lock.check();
      return std::nullopt;
    } catch (const Error& error) {
      return error.kind();
    }
  }
  TempFolder folder_;
  std::unique_ptr<Store> store_;
  LockRequest request_;
  std::string boot_, id_;
};

TEST_F(LockOf, AContainerIsToldByTheKernel) {
  // Process 1 is there, in our numbers; in those of the container that wrote this it is another. The kernel's
  // own lock on the folder is free: it has ended.
  EXPECT_EQ(take(lock_text("skerry-1", id_, boot_, "pid:[1]")), std::nullopt);
}

TEST_F(LockOf, WhereTheKernelDoesNotTellAContainerIsAlive) {
  store_ = std::make_unique<WithoutHold>(folder_ / "");
  EXPECT_EQ(take(lock_text("skerry-1", id_, boot_, "pid:[1]")), ErrorKind::busy);
}

TEST_F(LockOf, AMachineOfTheSameNameIsAnother) {
  EXPECT_EQ(take(lock_text("skerry-1", "0123456789abcdef", "another boot", "")), ErrorKind::busy);
  EXPECT_EQ(take(lock_text("skerry-1", id_, "another boot", "")), std::nullopt)
      << "ours, before it was started again";
}

TEST_F(LockOf, ACloneIsToldByItsHeartbeat) {
  request_.shared = true;
  std::jthread clone([this](std::stop_token stop) {
    for (int beat = 0; !stop.stop_requested(); ++beat) {
      write_file((folder_ / "job/") + lock_name + ".beat-00112233", std::to_string(beat));
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
  });
  std::this_thread::sleep_for(std::chrono::milliseconds(50));
  EXPECT_EQ(take(lock_text("skerry-1", id_, "another boot", "")), ErrorKind::busy);
  clone.request_stop();
  clone.join();
  EXPECT_EQ(take(lock_text("skerry-1", id_, "another boot", "")), std::nullopt);
}

TEST_F(LockOf, AnEmptyOneIsNobodys) {
  EXPECT_EQ(take(""), std::nullopt);
  EXPECT_EQ(take("{\"machine\":"), std::nullopt);
}

}  // namespace
}  // namespace kestrum::test
