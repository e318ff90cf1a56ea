// What is made by times of its own besides runs: checks of everything that a job has, and drills. When, and
// what came of them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "base/clock.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

enum class CheckKind : std::uint8_t {
  check,  // the sets are read
  drill,  // files are brought back for a rehearsal
};
std::string_view check_kind_word(CheckKind kind);  // "check", "drill"

struct JobCheck {
  std::int64_t id = 0;
  std::string job;
  Instant started;
  std::optional<Instant> ended = {};  // none: it goes on, or was cut off
  std::string process = {};           // ProcessIdentity::text
  int exit_code = 0;
  std::uint64_t bytes = 0, left_bytes = 0;  // read; left for the next time
  bool complete = true;                     // nothing is left
  std::string message = {};                 // why it could not be made, or what a drill found; else empty
  CheckKind kind = CheckKind::check;

  // It was made, or could not be for a reason that trying again soon does not mend.
  bool settles() const;
};

// Errors are those of the ledger, which must outlive it.
class CheckBook {
 public:
  explicit CheckBook(Ledger& ledger) : database_(ledger.database()) {}
  // Under which the times of a job's checks are kept (DueBook::count_times); no job has such a name.
  static std::string times_of(const std::string& job, CheckKind kind) {
    return job + "/" + std::string(check_kind_word(kind));
  }

  // Gives it its id.
  void begin(JobCheck& check);
  // Everything but job, kind, start and process.
  void finish(const JobCheck& check);
  // Newest first.
  std::vector<JobCheck> checks(const std::string& job, CheckKind kind, int most);

 private:
  Database& database_;
};

}  // namespace kestrum
