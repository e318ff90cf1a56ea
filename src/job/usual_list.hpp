// What every job leaves out unless it says otherwise: trash, caches, temporary files. Shown by
// `kestrum help usual-list`, turned off by [what] usual-list = "save".
#pragma once

#include <span>

namespace kestrum {

struct UsualSkip {
  const char* pattern;  // of SkipRules
  const char* words;
};

std::span<const UsualSkip> usual_list();

}  // namespace kestrum
