// Ready-made starting sets of answers for a new job.
#pragma once

#include <span>
#include <string>

#include "job/job_file.hpp"

namespace kestrum {

struct Preset {
  const char* name;
  const char* words;
  JobValues values;
};

std::span<const Preset> presets();
// Throws Error of kind usage with the nearest name.
const Preset& preset_named(const std::string& name);

}  // namespace kestrum
