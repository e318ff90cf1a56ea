// Points as a picture: time to the right, chains as groups, stored sizes as heights.
#pragma once

#include <string>
#include <vector>

#include "engine/look.hpp"
#include "tell/gnuplot.hpp"

namespace kestrum {

// One row for each drive. Throws Error (see tell/gnuplot.hpp).
void draw_points(const std::vector<PointsResult>& drives, const std::string& path);

}  // namespace kestrum
