// What a check found, in words that verify and repair share.
#pragma once

#include "engine/verify.hpp"

namespace kestrum {

// The files that cannot be restored as they were, if there are any.
void print_affected(const VerifyResult& result);

}  // namespace kestrum
