#include "base/thread_group.hpp"

#include <system_error>

#include "base/error.hpp"

namespace kestrum {

void ThreadGroup::start(std::function<void()> work) {
  try {
    threads_.emplace_back(std::move(work));
  } catch (const std::system_error& error) {
    throw Error(ErrorKind::failed,
                "the system starts no further thread: " + system_reason(error.code().value()),
                "close other programs, or raise the limit of processes for this user");
  }
}

void ThreadGroup::join() {
  for (std::thread& thread : threads_) {
    if (thread.joinable()) thread.join();
  }
  threads_.clear();
}

}  // namespace kestrum
