// Help on what is not a verb: the usual list, categories, patterns, phrases.
#pragma once

#include <optional>
#include <string>
#include <vector>

namespace kestrum {

std::vector<std::string> help_topics();
// Nothing when there is no such topic.
std::optional<std::string> help_topic(const std::string& name);

}  // namespace kestrum
