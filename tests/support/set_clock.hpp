// A clock for processes under test that can be set while they run.
#pragma once

#include <string>

#include "base/clock.hpp"

namespace kestrum::test {

class SetClock {
 public:
  // `file`: what KESTRUM_CLOCK names, behind "file:".
  SetClock(std::string file, const std::string& utc, double rate);
  // Jumps.
  void set(Instant now, double rate);
  void set(const std::string& utc, double rate) { set(*parse_utc(utc), rate); }
  // Goes on from where it is, at another rate.
  void go(double rate) { set(now(), rate); }
  // Goes on to that moment, without a jump, and stands still there.
  void run_to(const std::string& utc, double rate);
  Instant now() const { return ClockFile(file_).now(); }
  std::string variable() const { return "file:" + file_; }

 private:
  void set(const SimulatedClock& clock);

  std::string file_;
};

}  // namespace kestrum::test
