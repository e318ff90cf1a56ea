// Steering work in progress: stopping it, holding it for a while, letting it go on.
#pragma once

#include <atomic>
#include <functional>

#include "base/error.hpp"

namespace kestrum {

// Thrown where work ends because a person asked for it. Neither an Error nor a std::exception, so that
// nothing that catches what went wrong takes it for that.
struct Stopped {
  const char* message = "stopped, as asked";
};

// Asked often by whoever works. Stopping and pausing may come from any thread and from a signal handler.
class RunControl {
 public:
  RunControl() = default;
  RunControl(const RunControl&) = delete;
  RunControl& operator=(const RunControl&) = delete;

  // Throws Stopped once a stop was asked for. While paused it waits; before it returns from that,
  // `after_pause` is asked, which may throw: the world may have changed meanwhile.
  void checkpoint();

  void stop() noexcept { stop_ = true; }
  // As stop(), when somebody asked for this run's end by name: it is not made up for.
  void stop_for_good() noexcept {
    for_good_ = true;
    stop_ = true;
  }
  bool stopped_for_good() const noexcept { return for_good_; }
  // What was done so far is not wanted either. Asked before stop().
  void discard() noexcept { discard_ = true; }
  bool discards() const noexcept { return discard_; }
  // The world may have changed (the machine slept): `after_pause` is asked at the next checkpoint.
  void look_again() noexcept { look_ = true; }
  void pause() noexcept { paused_ = true; }
  void go_on() noexcept { paused_ = false; }
  bool stop_requested() const noexcept { return stop_; }
  bool paused() const noexcept { return paused_; }

  // Set by the one who works, for as long as it lives.
  void set_after_pause(std::function<void()> ask) { after_pause_ = std::move(ask); }

 private:
  std::atomic<bool> stop_{false};
  std::atomic<bool> for_good_{false};
  std::atomic<bool> discard_{false};
  std::atomic<bool> look_{false};
  std::atomic<bool> paused_{false};
  std::function<void()> after_pause_;
};

// What a stopped command says.
Error stopped_error(const Stopped& stopped = {});

}  // namespace kestrum
