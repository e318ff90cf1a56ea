// Mending what the drive has lost of a job's sets: from parity, from volumes, from today's files, from other
// destinations.
#pragma once

#include "archive/mending.hpp"
#include "engine/session.hpp"
#include "engine/verify.hpp"

namespace kestrum {

struct MendedFile {
  std::string name;
  FileMending mending;
  std::string trouble;  // why its parity was of no use; else empty
  bool has_parity = false;
};

struct SetRepair {
  SetFacts facts;
  bool seals = false;                                  // one was damaged or missing, and is as the other
  std::vector<MendedFile> files;                       // that did not read
  bool index = false;                                  // made anew from its volumes
  std::uint64_t pieces_lost = 0;                       // of content, after that
  std::uint64_t from_elsewhere = 0, from_sources = 0;  // of them, taken again
  std::size_t parity_made = 0;  // files that got parity, or other parity in the place of a damaged one
  bool any() const { return seals || index || !files.empty() || pieces_lost > 0 || parity_made > 0; }
};

struct RepairResult {
  std::string root;             // of the destination
  std::vector<SetRepair> sets;  // of which something was to be mended
  VerifyResult found;           // before
  VerifyResult left;            // after; the same where nothing was changed
  bool changed = false;
};

struct RepairRequest {
  bool dry = false;         // only what could be mended, and from what
  bool add_parity = false;  // also for sets that were written without, as the job has it now
};

// Of every destination of the job that is there. Checks everything first, and again after it has changed
// anything. Throws Error as EachDrive does; usage where parity is asked for and the job has none; Stopped.
std::vector<RepairResult> repair_job(const std::string& name, const RepairRequest& request,
                                     const RunContext& context);

}  // namespace kestrum
