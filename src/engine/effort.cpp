#include "engine/effort.hpp"

#include <linux/ioprio.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <csignal>
#include <exception>
#include <thread>

#include "base/thread_group.hpp"

namespace kestrum {
namespace {

struct Priority {
  int nice;
  int disk;
};

Priority priority_of(Effort effort) {
  constexpr int idle = IOPRIO_PRIO_VALUE(IOPRIO_CLASS_IDLE, 0);
  constexpr int last_of_many = IOPRIO_PRIO_VALUE(IOPRIO_CLASS_BE, 7);
  return effort == Effort::low ? Priority{19, idle} : Priority{10, last_of_many};
}

// Of the calling thread: 0 is this one, for both calls. Never for more than it has.
void take(const Priority& priority) {
  if (getpriority(PRIO_PROCESS, 0) < priority.nice) setpriority(PRIO_PROCESS, 0, priority.nice);
  const long disk = syscall(SYS_ioprio_get, IOPRIO_WHO_PROCESS, 0);
  if (disk < 0 || IOPRIO_PRIO_CLASS(disk) != IOPRIO_CLASS_IDLE)
    syscall(SYS_ioprio_set, IOPRIO_WHO_PROCESS, 0, priority.disk);
}

}  // namespace

unsigned workers_for(Effort effort, unsigned usual) {
  if (effort == Effort::low) return 1;
  return effort == Effort::all ? std::max({1u, usual, std::thread::hardware_concurrency()}) : usual;
}

void with_effort(Effort effort, const std::function<void()>& work) {
  if (effort == Effort::all) return work();
  // A prompt on the working thread is to be broken off by a signal, not this wait.
  sigset_t all, before;
  sigfillset(&all);
  pthread_sigmask(SIG_SETMASK, &all, &before);
  std::exception_ptr thrown;
  try {
    ThreadGroup thread;
    thread.start([&] {
      pthread_sigmask(SIG_SETMASK, &before, nullptr);
      take(priority_of(effort));
      try {
        work();
      } catch (...) {
        thrown = std::current_exception();
      }
    });
    thread.join();
  } catch (...) {
    thrown = std::current_exception();
  }
  pthread_sigmask(SIG_SETMASK, &before, nullptr);
  if (thrown) std::rethrow_exception(thrown);
}

}  // namespace kestrum
