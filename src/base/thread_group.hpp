// Threads that end with their owner, and whose failure to start is an error like any other.
#pragma once

#include <functional>
#include <thread>
#include <vector>

namespace kestrum {

// Joins in its destructor: whoever gives them work must have told them to end before.
class ThreadGroup {
 public:
  ThreadGroup() = default;
  ThreadGroup(ThreadGroup&&) = default;
  ThreadGroup& operator=(ThreadGroup&&) = delete;
  ~ThreadGroup() { join(); }
  // Throws Error of kind failed when the system gives no further thread. `work` must not throw.
  void start(std::function<void()> work);
  std::size_t size() const { return threads_.size(); }
  void join();

 private:
  std::vector<std::thread> threads_;
};

}  // namespace kestrum
