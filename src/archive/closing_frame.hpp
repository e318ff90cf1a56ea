// The last frame of a set's last volume: docs/FORMAT.md section 5.
#pragma once

#include "archive/seal.hpp"

namespace kestrum {

FrameContent closing_frame(const Id& set, const Root& root);

}  // namespace kestrum
