// What the guard has found, and verdicts, as JSON: docs/JSON.md.
#pragma once

#include <string>
#include <vector>

#include "engine/guard.hpp"

namespace kestrum {

std::string guard_document(const std::string& job, const std::vector<GuardLook>& looks);
std::string verdict_document(const std::string& job, const GuardVerdict& verdict, bool trusted);

}  // namespace kestrum
