// What use cases are given of the world around them.
#pragma once

#include "base/observer.hpp"
#include "base/pace.hpp"
#include "base/run_control.hpp"
#include "engine/home.hpp"
#include "engine/job_lock.hpp"
#include "engine/opened_place.hpp"
#include "engine/passphrase_source.hpp"
#include "source/accounts.hpp"

namespace kestrum {

// References must outlive it.
struct RunContext {
  const Home& home;
  const Clock& clock;
  Observer& observer;
  RunControl& control;
  AskPassphrase ask = {};
  std::string machine = {};
  std::string program = {};      // name and version, for the record
  std::string session_bus = {};  // D-Bus address of this process's own desktop session; empty: the usual
  unsigned workers = 2;
  Argon2Cost key_cost = {};                 // of new key entries
  People people = {};                       // whose homes categories are looked for in
  bool same_disk = false;                   // a destination on a source's disk is meant, this time
  DriveMeant meant = {};                    // what a person says of the drive
  bool break_lock = false;                  // a person says that another machine's run is gone
  OpenStore open_store = open_local_store;  // tests put a store of their own here
  LockTiming lock_timing = {};
  // Nobody is there: the job's last good form counts where its file does not read, and a pause holds.
  bool unattended = false;
  std::int64_t start = 0;  // of due moments that wait for this run (DueBook); 0: none
  // Bytes read between two journals of a run, at first: what is read again at most when it is broken off.
  std::uint64_t journal_step = 16u << 20;
  Pace* read_pace = nullptr;  // of what is read from the sources; nullptr: as fast as it goes
  // By which it is told whether a file was changed too lately to trust its times: the one that files are
  // dated by, whatever `clock` is.
  const Clock* file_clock = nullptr;  // nullptr: the system's
};

// Of a job's new key entries.
inline Argon2Cost key_cost_of(const Job& job, const RunContext& context) {
  Argon2Cost cost = context.key_cost;
  if (job.passphrase_memory_kib != 0) cost.memory_kib = job.passphrase_memory_kib;
  return cost;
}

}  // namespace kestrum
