#include "base/run_control.hpp"

#include <chrono>
#include <thread>

namespace kestrum {

void RunControl::checkpoint() {
  bool waited = false;
  // Looked at now and then rather than waited for: a signal handler may not wake a waiting thread.
  while (paused_ && !stop_) {
    waited = true;
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
  }
  if (stop_) throw Stopped();
  if (look_ && look_.exchange(false)) waited = true;
  if (waited && after_pause_) after_pause_();
}

Error stopped_error(const Stopped& stopped) {
  return Error(ErrorKind::stopped, stopped.message, "run it again when it suits");
}

}  // namespace kestrum
