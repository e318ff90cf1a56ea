// What was due and what became of it: one line for each moment. And since when a job's times count, and what
// the agent saw happen.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/results.hpp"
#include "base/set_facts.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct DueLine {
  std::int64_t id = 0;
  std::string job;
  Instant when;               // whole seconds
  Instant first;              // of very many that were noticed at once; else the same
  std::uint64_t moments = 1;  // that the line stands for
  std::string phrase;
  std::optional<Kind> kind = {};  // that the run should have, where its time says so
  DueFate fate = DueFate::waiting;
  DueReason reason = DueReason::none;
  bool late = false;                     // its run makes up for it
  bool own = true;                       // of the moments of a run the one that it is of
  std::optional<std::int64_t> run = {};  // id
  std::int64_t start = 0;                // that it waits for; 0: none
  Instant told = {};                     // when the line was written
};

struct TimeSince {
  std::string phrase;
  Instant since;
};

// Something that happened to the agent or a job, for people and for tests.
struct AgentEvent {
  Instant when;
  std::string job;   // empty: of none
  std::string what;  // one word: "begins", "ends", "clock", "warned", "edit", or one of these
  std::string words;
  // Whether the sources of a job that runs on change are watched.
  static constexpr const char* watched = "watched";
  static constexpr const char* unwatched = "unwatched";
};

// A line, or a `since`, from a clock that was so far ahead of now does not count.
inline constexpr std::int64_t clock_ahead_seconds = 3600;

// Errors are those of the ledger, which must outlive it.
class DueBook {
 public:
  explicit DueBook(Ledger& ledger) : ledger_(ledger) {}

  // The phrases that the job has now: new ones count from `now`, those that are gone are forgotten. The same
  // order comes back.
  std::vector<TimeSince> count_times(const std::string& job, const std::vector<std::string>& phrases,
                                     Instant now);
  // The same without writing: of unknown ones nothing comes back.
  std::vector<TimeSince> known_times(const std::string& job);

  // The newest moment until `now` that has a line.
  std::optional<Instant> newest_line(const std::string& job, Instant now);
  // The newest line that was made; 0: none.
  std::int64_t last_id();
  // What was written under a clock that was ahead: lines made after that one, of moments later than `now`.
  void forget_lines(std::int64_t made_after, Instant now);
  // Lines of moments after `known` until now that a clock far ahead of now made: what was due then has one of
  // its own by now.
  void forget_ahead(const std::string& job, std::optional<Instant> known, Instant now);
  // In one transaction. A moment that has a line keeps it, unless a clock far ahead wrote that.
  void add(const std::vector<DueLine>& lines, Instant now);
  // Fate, reason, lateness, own and run.
  void update(const DueLine& line);
  // Oldest first; `job` empty: of all.
  std::vector<DueLine> waiting(const std::string& job = {});
  std::vector<DueLine> of_run(std::int64_t run_id);
  // Newest first; `job` empty: of all. Those later than `until` are left out.
  std::vector<DueLine> lines(const std::string& job, std::size_t most, Instant until);

  // These wait for that start from now on; the last of them is the run's own. Returns the start, never 0.
  std::int64_t prepare_start(const std::vector<DueLine>& lines);
  // Who waits for a start that no run has taken waits for none.
  void give_up_all_starts();

  void add_event(const AgentEvent& event);
  std::vector<AgentEvent> events(std::size_t most);  // newest first
  // What was said last of the job's being watched: `watched` or `unwatched`.
  std::optional<AgentEvent> watching(const std::string& job);

 private:
  Ledger& ledger_;
};

}  // namespace kestrum
