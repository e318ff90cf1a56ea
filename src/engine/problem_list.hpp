// The problems of one command: collected, told, bounded.
#pragma once

#include "base/observer.hpp"

namespace kestrum {

// Too many to keep all of them: the list ends with one that says how many more there were.
inline constexpr std::size_t most_problems = 100000;
void add_problem(std::vector<Problem>& problems, Observer& observer, Problem problem);

}  // namespace kestrum
