// What an errno of a store's system calls means for whoever uses the store.
#pragma once

#include <string>

#include "base/error.hpp"

namespace kestrum {

// As system_error, but told apart: no_destination where it can only be read, not_reachable where it does not
// answer now. `path` as a person sees it.
Error store_error(const std::string& operation, const std::string& path, int code);

}  // namespace kestrum
