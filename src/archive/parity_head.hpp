// What a parity file says of itself.
#pragma once

#include "archive/parity.hpp"

namespace kestrum {

// Where its head reads and it belongs to that file; it has no name yet.
std::optional<SealedParity> read_own_parity(const Store& store, const std::string& path,
                                            const SealedFile& of);

}  // namespace kestrum
