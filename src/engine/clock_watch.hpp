// Says when the machine slept, and when its clock was set.
#pragma once

#include "base/clock.hpp"

namespace kestrum {

class ClockWatch {
 public:
  // The clock must outlive this.
  explicit ClockWatch(const Clock& clock) : clock_(clock), last_(read()) {}

  // Since the look before.
  struct Change {
    bool slept = false;
    std::int64_t set_by = 0;  // seconds, forwards or backwards
  };
  Change look();

 private:
  struct Reading {
    double boot = 0, asleep = 0, rate = 1;
    Instant wall;
  };
  Reading read() const;
  const Clock& clock_;
  Reading last_;
};

}  // namespace kestrum
