// What is told at the desks of those whose files they are: [tell] desktop.
#pragma once

#include <string>

#include "engine/news.hpp"

namespace kestrum {

// In words for them, and of what they can do. Empty: nothing.
struct DeskWords {
  std::string title, words;
};
DeskWords desk_words(const JobStatus& status, const TellStep& step, const std::vector<RunEntry>& runs,
                     Instant now);

// Shows what there is to be shown, where somebody has a desktop session. Returns when to look again. Throws
// Error where what was told cannot be kept.
std::optional<Instant> tell_at_desks(const RunContext& context);

}  // namespace kestrum
