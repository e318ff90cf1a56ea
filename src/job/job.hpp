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
#include "rules/keep_rules.hpp"
#include "rules/renew_rules.hpp"

namespace kestrum {

// Values by (table, key), as they are written in a job file or on a command line.
using JobValues = std::map<std::pair<std::string, std::string>, std::vector<std::string>>;

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

struct Job {
  std::string name;
  std::string file;  // where it was read from
  std::string text;  // as it stands there
  JobValues given;   // as it was said

  WhatToSave what;
  std::vector<std::string> destinations;  // [where]
  UseOf use = UseOf::whichever;           // of several
  bool same_disk = false;                 // it may be the disk of a source
  bool mount_for_run = false;             // a drive that is not mounted is, for each run
  std::string attach, detach;             // commands around each run; empty: none
  std::vector<Phrase> runs;               // [when]; none: by hand
  bool catch_up = true;                   // a missed run is made up for
  RunWindow window;                       // in which runs may start by themselves
  std::optional<Span> warn_after;         // without a good point
  bool enabled = true;                    // runs by itself, and with --all
  Kind kind = Kind::incremental;          // [how]
  RenewRules renew{
      .every_sets = 30, .every = {}, .week = false, .month = false, .restore_needs = {}, .outgrown = {}};
  std::string compression = "normal";
  int level = 3;
  std::uint64_t volume_bytes = std::uint64_t{1} << 30;
  Encryption encryption = Encryption::aes_256_gcm;  // [protect]
  std::string passphrase = "ask";                   // or "file:/path"
  std::string recovery_key;                         // file with the public part; empty: none
  KeepRules keep;                                   // [keep]
  bool read_back = true;                            // [check] after-run
  std::string before, after;                        // [around]: commands; empty: none
  std::string mail;                                 // [tell]: address; empty: none
  std::string mail_detail = "problems";
};

// The times that count: none of a job that only runs when asked for by name.
inline std::vector<Phrase> times_of(const Job& job) {
  return job.enabled ? job.runs : std::vector<Phrase>();
}

// A name that can be a job's: printable UTF-8 without '/', not starting with '.' or '-', at most 100 bytes.
// Throws Error of kind usage otherwise.
void check_job_name(const std::string& name);

}  // namespace kestrum
