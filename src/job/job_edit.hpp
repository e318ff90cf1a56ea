// Changing keys of a job file by their place in the text, and what that will mean.
#pragma once

#include "job/job_keys.hpp"
#include "job/key_edit.hpp"

namespace kestrum {

// edit_keys() of a job file.
std::string edit_job_text(const std::string& name, const std::string& file, const std::string& text,
                          const std::vector<KeyChange>& changes);

// What the difference between two versions of a job will mean, one line a key that differs; empty when they
// say the same.
std::vector<std::string> edit_meaning(const Job& before, const Job& after);

}  // namespace kestrum
