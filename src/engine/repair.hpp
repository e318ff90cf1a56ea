// Mending what the drive has lost of a job's sets: from parity, from volumes, from today's files, from other
// destinations.
#pragma once

#include "engine/session.hpp"
#include "engine/verify.hpp"

namespace kestrum {

struct RepairResult {
  std::string root;                     // of the destination
  std::vector<std::string> identities;  // small files that were lost, and are written anew: paths
  std::vector<Sequence> sealed_anew;    // sets of which neither seal did read
  std::vector<std::string> not_sealed;  // those for which that could not be done, and why
  std::vector<SetRepair> sets;          // of which something was to be mended
  VerifyResult found;                   // before
  VerifyResult left;                    // after; the same where nothing was changed
  bool changed = false;
};

// What could be mended of what a check found, and from what; nothing is changed, and nobody kept out.
struct Prospects {
  std::vector<SetRepair> sets;
  bool complete = true;  // false: the time was up before everything was looked at
};
// `others`: sessions with the job's other destinations, unlocked. Throws as `repair_job` does.
Prospects mending_prospects(LookSession& session, const VerifyResult& found,
                            const std::vector<LookSession*>& others, const RunContext& context,
                            std::chrono::seconds longest);

struct RepairRequest {
  bool dry = false;         // only what could be mended, and from what
  bool add_parity = false;  // also for sets that were written without, as the job has it now
};

// Of every destination of the job that is there. Checks everything first, and again after it has changed
// anything. Throws Error as EachDrive does; usage where parity is asked for and the job has none; Stopped.
std::vector<RepairResult> repair_job(const std::string& name, const RepairRequest& request,
                                     const RunContext& context);

}  // namespace kestrum
