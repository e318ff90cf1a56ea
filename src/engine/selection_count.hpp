// How many files and bytes a choice brings, before anything runs.
#pragma once

#include "base/run_control.hpp"
#include "engine/preview_tally.hpp"
#include "job/job_selection.hpp"

namespace kestrum {

struct SelectionCount {
  FileCount all;
  std::vector<NamedCounts> sources, categories;
  std::uint64_t problems = 0;  // folders that could not be looked into and the like
};

// Walks everything, reads no file. Throws Error of kind usage (see `select`), Stopped.
SelectionCount count_selection(const WhatToSave& what, const People& people, Instant now, Observer& observer,
                               RunControl& control);

}  // namespace kestrum
