// Kills processes at random moments of what they do, however long that takes just now: on a busy machine no
// measurement holds for long.
#pragma once

#include <signal.h>
#include <unistd.h>

#include <algorithm>
#include <random>

#include "support/program.hpp"

namespace kestrum::test {

class RandomKills {
 public:
  // `guess`: microseconds that one takes that is left alone.
  explicit RandomKills(unsigned seed, double guess = 200000) : random_(seed), length_(guess) {}

  // A child that has just begun. Whether it was killed before its end.
  bool kill(pid_t child) {
    usleep(std::uniform_int_distribution<useconds_t>(0, static_cast<useconds_t>(length_))(random_));
    ::kill(child, SIGKILL);
    ended_ = Program::wait(child);
    const bool hit = ended_ == -SIGKILL;
    killed_ += hit ? 1 : 0;
    // Six of seven are hit then: late moments come as often as early ones.
    length_ = std::max(1000.0, length_ * (hit ? 1.05 : 0.75));
    return hit;
  }
  // The exit code of the last one, where it was not killed.
  int exit() const { return ended_; }
  unsigned killed() const { return killed_; }

 private:
  std::mt19937 random_;
  double length_;
  int ended_ = 0;
  unsigned killed_ = 0;
};

}  // namespace kestrum::test
