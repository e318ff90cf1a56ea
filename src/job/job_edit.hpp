// Changing keys of a job file by their place in the text: comments, order and spelling of everything else
// stay as they were.
#pragma once

#include <optional>

#include "job/job_keys.hpp"

namespace kestrum {

struct KeyChange {
  const JobKey* key = nullptr;
  std::optional<std::vector<std::string>> values;  // none: the key goes, the usual holds again
};

// The new text. Values that a list has before and after keep their line and its comment. Throws Error of kind
// usage when the file or a value is wrong, or the job that comes out.
std::string edit_job_text(const std::string& name, const std::string& file, const std::string& text,
                          const std::vector<KeyChange>& changes);

// What the difference between two versions of a job will mean, one line a key that differs; empty when they
// say the same.
std::vector<std::string> edit_meaning(const Job& before, const Job& after);

}  // namespace kestrum
