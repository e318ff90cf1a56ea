// The ways into a job's sets as JSON: docs/JSON.md.
#pragma once

#include <string>
#include <vector>

#include "engine/ways_in.hpp"

namespace kestrum {

std::string ways_document(const std::string& job, const WaysOutcome& outcome);
// `recovery`: by a recovery key, else by a passphrase.
std::string way_test_document(const std::string& subject, const std::vector<WayTest>& tests, bool recovery);

}  // namespace kestrum
