// What the engine tells while it works. The terminal, the log file and the tests listen; the engine never
// prints.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

namespace kestrum {

// What went wrong with one file; collected, never thrown away.
struct Problem {
  std::string path;       // bytes, absolute; empty when it concerns no single file
  std::string operation;  // what was tried: "read", "list", "restore", ...
  std::string reason;     // plain words
};

enum class Phase { scanning, sampling, copying, sealing, checking, restoring, folding, mending };

// Totals of the phase that begins; 0 when not known.
struct PhaseTotals {
  std::uint64_t bytes = 0;
  std::uint64_t files = 0;
};

// Called from the thread that runs the use case, unless said otherwise; must not throw.
class Observer {
 public:
  virtual ~Observer() = default;
  // True when percentages are shown, so that totals are worth an extra walk.
  virtual bool wants_totals() const { return false; }
  // A run of a job has its place in the history; its log belongs there.
  virtual void run_begins(const std::string& /*log_file*/) {}
  virtual void phase_begins(Phase, const PhaseTotals&) {}
  virtual void file_begins(const std::string& /*path*/, std::uint64_t /*size*/) {}
  // `bytes` and `files` more are done in this phase.
  virtual void advanced(std::uint64_t /*bytes*/, std::uint64_t /*files*/) {}
  virtual void problem(const Problem&) {}
  // Something worth knowing that is no problem.
  virtual void note(const std::string&) {}
};

}  // namespace kestrum
