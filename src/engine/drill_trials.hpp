// What could be lost besides files, brought back for a trial.
#pragma once

#include "engine/drill.hpp"

namespace kestrum {

// The seals of all sets and their copies; a set without either; the index of the point's own set, from its
// volumes; the job's file, its memory and its history, in a home of their own in that folder. Nothing else on
// this machine is changed.
std::vector<RebuildTrial> try_rebuilding(LookSession& subject, OpenPoint& point, const std::string& scratch,
                                         RunControl& control);

}  // namespace kestrum
