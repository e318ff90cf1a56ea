// Names and sorts of files that a person would not think of.
#pragma once

#include <string>

namespace kestrum::test {

// Below `root`, which is there. As root with device nodes, foreign owners and an access list.
void make_hostile(const std::string& root);

}  // namespace kestrum::test
