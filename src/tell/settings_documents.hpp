// Settings as JSON (docs/JSON.md).
#pragma once

#include "engine/outbox.hpp"

namespace kestrum {

std::string settings_document(const Settings& settings);
// `checks`: what was looked at, and what is wrong with it; empty: nothing.
struct SettingsCheck {
  std::string what, trouble;
};
std::string settings_check_document(const Settings& settings, const std::vector<SettingsCheck>& checks);

}  // namespace kestrum
