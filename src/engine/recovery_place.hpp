// Where the secret part of a recovery key had better not lie.
#pragma once

#include <string>

#include "engine/home.hpp"

namespace kestrum {

// What speaks against keeping a secret in this file, which need not be there: it would be on a destination,
// on the disk of this machine, or in memory. A part of a sentence ("lies on ..."); empty when nothing is
// known against it. Throws Error of kind usage when the folder is not there.
std::string against_secret_at(const std::string& path, const Home& home);

}  // namespace kestrum
