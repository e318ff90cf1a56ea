// The classic mistake: files and their copies on one disk.
#pragma once

#include "engine/home.hpp"
#include "source/accounts.hpp"
#include "source/selection.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {

// Which source lies on the disk of the destination, in words; empty when none does.
std::string shared_disk(const Selection& selection, const std::string& destination, const DriveFacts& drive);

// Refuses a destination on a source's disk, when nobody said that it is meant. Throws Error of kind usage.
void refuse_shared_disk(const std::string& shared);

// A job's destination as it is now, for somebody who is about to choose it.
struct DestinationView {
  std::string root;     // where it is; the job's words when it is not there
  std::string trouble;  // why it cannot be used, with what to do; empty when it can
  std::optional<DriveFacts> drive;
  std::string shared;              // shared_disk
  std::vector<std::string> notes;  // on the sources: links followed, one inside another
};
// Looks, writes nothing. Throws Error of kind usage for what can never be: a selection that names nobody, a
// destination that is a file or the root of the system's disk.
DestinationView view_destination(const Job& job, const People& people, Instant now);

}  // namespace kestrum
