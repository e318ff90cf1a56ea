// Progress on standard error: one living line on a terminal, plain lines elsewhere. Also carries Ctrl-C.
#pragma once

#include <chrono>
#include <vector>

#include "base/observer.hpp"
#include "base/run_control.hpp"
#include "cli/environment.hpp"

namespace kestrum {

// Of whatever this process works at.
RunControl& process_control();
// From now on SIGINT, SIGTERM and SIGHUP end the process with the exit code of a stop; while a StopsItself is
// there they ask for a clean stop instead.
void catch_stop_signals();
// As long as it lives somebody asks process_control() whether to stop, often, and puts things in order.
class StopsItself {
 public:
  StopsItself();
  ~StopsItself();
  StopsItself(const StopsItself&) = delete;
  StopsItself& operator=(const StopsItself&) = delete;
};

class Progress final : public Observer {
 public:
  // `quiet`: problems only. `all`: every one of them, however many.
  Progress(const Environment& environment, bool quiet, bool all = false);
  ~Progress() override;
  bool wants_totals() const override { return living_ && !quiet_; }
  void phase_begins(Phase phase, const PhaseTotals& totals) override;
  void file_begins(const std::string& path, std::uint64_t size) override;
  void advanced(std::uint64_t bytes, std::uint64_t files) override;
  void problem(const Problem& problem) override;
  void note(const std::string& text) override;
  // Ends the living line.
  void finish();

 private:
  using Time = std::chrono::steady_clock::time_point;
  void tick();
  void draw(Time now);
  void clear();
  std::string line_text(Time now) const;

  const Environment& environment_;
  bool quiet_;
  bool all_;
  bool living_;
  bool drawn_ = false;
  bool any_phase_ = false;
  Phase phase_ = Phase::scanning;
  PhaseTotals totals_;
  std::uint64_t bytes_ = 0;
  std::uint64_t files_ = 0;
  std::string file_;
  std::uint64_t file_size_ = 0;
  std::uint64_t file_done_ = 0;
  Time phase_start_;
  Time last_draw_;
  std::uint64_t problems_ = 0;
};
// So many problems are shown one by one, where nobody asks for all.
inline constexpr std::uint64_t problems_shown = 20;

// Passes everything on to several listeners; asks all of them about totals.
class Listeners final : public Observer {
 public:
  explicit Listeners(std::vector<Observer*> listeners) : listeners_(std::move(listeners)) {}
  bool wants_totals() const override;
  void run_begins(const std::string& log_file) override;
  void phase_begins(Phase phase, const PhaseTotals& totals) override;
  void file_begins(const std::string& path, std::uint64_t size) override;
  void advanced(std::uint64_t bytes, std::uint64_t files) override;
  void problem(const Problem& problem) override;
  void note(const std::string& text) override;

 private:
  std::vector<Observer*> listeners_;
};

}  // namespace kestrum
