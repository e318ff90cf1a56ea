// One run of one job, from the first look at the destination to the entry in the ledger.
#pragma once

#include "base/error.hpp"
#include "engine/destination.hpp"
#include "engine/home.hpp"
#include "engine/passphrase_source.hpp"
#include "engine/run_facts.hpp"
#include "job/job_selection.hpp"
#include "ledger/ledger.hpp"

namespace kestrum {

struct RunContext {
  const Home& home;
  const Clock& clock;
  Observer& observer;
  AskPassphrase ask;
  std::string machine;
  std::string program;  // name and version, for the record
  unsigned workers = 2;
  Argon2Cost key_cost = {};                 // of new key entries
  People people = {};                       // whose homes categories are looked for in
  bool same_disk = false;                   // a destination on a source's disk is meant, this time
  OpenStore open_store = open_local_store;  // tests put a store of their own here
};

struct RunOutcome {
  RunEntry entry;
  std::vector<Problem> problems;
  std::optional<Error> error;    // why it failed, was stopped, or what the check found
  std::string set_folder;        // of the new point, on this machine
  std::uint64_t free_bytes = 0;  // on the destination afterwards
};

// One outcome for each destination that was written to or tried. Never throws for what went wrong with a run:
// that is the outcome, and stands in the ledger. Throws only when the job does not exist or its file is
// wrong. `done` is told of each when it is there.
std::vector<RunOutcome> run_job(const std::string& name, std::optional<Kind> kind, const RunContext& context,
                                const std::function<void(const RunOutcome&)>& done = {});

}  // namespace kestrum
