// One log file a run: the result, then the problems, then what happened when.
#pragma once

#include <memory>

#include "base/clock.hpp"
#include "base/observer.hpp"
#include "engine/backup.hpp"

namespace kestrum {

// Steps go to a file beside the log while the run goes on (so that a killed run leaves them); `finish` makes
// the log of it. Problems with writing it are told by `finish`, never thrown during the run.
class RunLog final : public Observer {
 public:
  explicit RunLog(const Clock& clock);
  ~RunLog() override;
  void run_begins(const std::string& log_file) override;
  void phase_begins(Phase phase, const PhaseTotals& totals) override;
  void problem(const Problem& problem) override;
  void note(const std::string& text) override;
  // Nothing, or why the log could not be written.
  std::optional<std::string> finish(const RunOutcome& outcome);

 private:
  void line(const std::string& text);
  struct File;
  const Clock& clock_;
  std::string path_;
  std::vector<std::string> early_;        // before the run had a log
  std::size_t problems_ = 0, lines_ = 0;  // that there were, also those that it leaves out
  std::unique_ptr<File> file_;
};

// The log of a run as text; of one that goes on, or was cut off, what there is of it. Throws Error of kind
// usage where it is not kept any more.
std::string read_log(const RunEntry& run);

// "Problem: could not read /srv/x: no such file". One line.
std::string problem_text(const Problem& problem);
// The summary that heads a log and `history --run`, one fact a line.
std::vector<std::string> run_summary(const RunEntry& run);

}  // namespace kestrum
