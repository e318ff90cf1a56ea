// What became of mail, as JSON (docs/JSON.md).
#pragma once

#include "tell/telling.hpp"

namespace kestrum {

std::string told_document(const TellDone& done);

}  // namespace kestrum
