// A job: what to save, where to, when, how, how long to keep. The value of a job file after it was checked.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/set_facts.hpp"
#include "calendar/phrase.hpp"
#include "calendar/run_window.hpp"
#include "job/key_file.hpp"
#include "rules/check_limit.hpp"
#include "rules/keep_rules.hpp"
#include "rules/renew_rules.hpp"
#include "rules/speed_limit.hpp"
#include "rules/tell_rules.hpp"

namespace kestrum {

using JobValues = GivenValues;

enum class Encryption { aes_256_gcm, none };

// Of several destinations: the one connected that was written longest ago, all connected, or one until it is
// full and then the next.
enum class UseOf { whichever, all, next_when_full };

struct WhatToSave {
  std::string description;  // for people; empty: none
  std::vector<std::string>
      people;  // "me", "everybody" or names; whose homes the categories are looked for in
  std::vector<std::string> categories;  // of job/categories.hpp
  std::vector<std::string> folders;     // absolute
  std::vector<std::string> skip;        // in order; "~/" stands for each chosen home
  bool usual_list = true;               // leave out what job/usual_list.hpp names
  bool hidden = true;
  bool mounted_below = true;
  bool tagged_caches = false;                              // save what is in folders with a CACHEDIR.TAG
  std::optional<std::uint64_t> skip_larger, skip_smaller;  // bytes
  std::optional<Span> skip_older, skip_newer;              // since the last modification
};

// How much of the machine a run takes. low: what nobody else wants, with one thread. normal: it gives way to
// other programs. all: it gives way to none, with a thread a processor.
enum class Effort { low, normal, all };

// What becomes of the machine after a run.
enum class Afterwards { nothing, standby, switch_off };
// [check] after-run. `read_back`: every byte is what was sealed, and a part of it is unpacked;
// `read_back_all`: all of it is unpacked, and every piece has its name.
enum class AfterRun { nothing, read_back, read_back_all };

struct Job {
  std::string name;
  std::string file;  // where it was read from
  std::string text;  // as it stands there
  JobValues given;   // as it was said

  WhatToSave what;
  std::vector<std::string> destinations;        // [where]
  UseOf use = UseOf::whichever;                 // of several
  bool same_disk = false;                       // it may be the disk of a source
  bool mount_for_run = false;                   // a drive that is not mounted is, for each run
  bool leaves_program = false;                  // a copy of this program lies beside the sets
  std::string attach, detach;                   // commands around each run; empty: none
  std::vector<Phrase> runs;                     // [when]; none: by hand
  bool catch_up = true;                         // a missed run is made up for
  RunWindow window;                             // in which runs may start by themselves
  Span settle{1, Span::Unit::minute};           // on change: so long nothing happens before a run
  Span least_interval{15, Span::Unit::minute};  // on change: from one run to the next
  std::optional<Span> warn_after;               // without a good point
  bool enabled = true;                          // runs by itself, and with --all
  Kind kind = Kind::incremental;                // [how]
  RenewRules renew{
      .every_sets = 30, .every = {}, .week = false, .month = false, .restore_needs = {}, .outgrown = {}};
  std::string compression = "normal";
  int level = 3;
  std::uint64_t volume_bytes = std::uint64_t{1} << 30;
  Effort effort = Effort::normal;
  std::vector<SpeedLimit> read_limits, write_limits;  // none: as fast as it goes
  bool waits_on_battery = false, waits_under_load = false;
  Encryption encryption = Encryption::aes_256_gcm;  // [protect]
  std::string passphrase = "ask";                   // or "file:/path"
  std::uint32_t passphrase_memory_kib = 0;          // that each try of it takes; 0: the usual
  std::vector<std::string> recovery_keys;           // files with public parts
  bool guard = true;                                // looks whether a run stands out
  unsigned parity_percent = 0;                      // of what is stored, up to 50; 0: none
  std::vector<std::string> bait;                    // files that nobody has a reason to change
  KeepRules keep;                                   // [keep]
  AfterRun after_run = AfterRun::read_back;         // [check]
  std::vector<Phrase> check_times;                  // everything is checked, also without runs; none: by hand
  CheckLimit check_budget;                          // so much each time
  std::vector<Phrase> drill_times;                  // a restore is rehearsed; none: by hand
  std::vector<std::string> drill_with;              // paths that are always in it
  std::string before, after_failure, after;         // [around]: commands; empty: none
  bool goes_on_without_before = false;              // when that command fails
  Span around_limit{1, Span::Unit::hour};           // of each of these commands
  Afterwards afterwards = Afterwards::nothing;
  bool afterwards_if_failed = false;
  TellRules tell;  // [tell]
};

// The times that count: none of a job that only runs when asked for by name.
inline std::vector<Phrase> times_of(const Job& job) {
  return job.enabled ? job.runs : std::vector<Phrase>();
}

inline std::vector<Phrase> check_times_of(const Job& job) {
  return job.enabled ? job.check_times : std::vector<Phrase>();
}
inline std::vector<Phrase> drill_times_of(const Job& job) {
  return job.enabled ? job.drill_times : std::vector<Phrase>();
}

// Whether what happens to its sources starts it.
inline bool runs_on_change(const Job& job) {
  for (const Phrase& phrase : times_of(job)) {
    if (phrase.type == Phrase::Type::on_change) return true;
  }
  return false;
}

// A name that can be a job's: printable UTF-8 without '/', not starting with '.' or '-', at most 100 bytes.
// Throws Error of kind usage otherwise.
void check_job_name(const std::string& name);

}  // namespace kestrum
