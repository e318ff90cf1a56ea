// What is shown as folders, as JSON.
#pragma once

#include <string>

#include "engine/session.hpp"

namespace kestrum {

struct OpenedPoint {
  SetFacts facts;
  std::string folder;  // its name; empty: the folder itself
};
std::string open_document(const std::string& on, const std::vector<OpenedPoint>& points);

}  // namespace kestrum
