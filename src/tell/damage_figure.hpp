// A picture of where the sets on each drive do not read.
#pragma once

#include <string>

#include "engine/verify.hpp"

namespace kestrum {

// Into a .png or .svg file. Throws Error as `draw_figure` does.
void draw_damage(const std::vector<DriveVerdict>& verdicts, const std::string& path);

}  // namespace kestrum
