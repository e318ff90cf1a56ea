// Which machine this is, beside its name: what tells two of one name apart, and a machine from its clone.
#pragma once

#include <string>

#include "base/random.hpp"

namespace kestrum {

// Made from the system's own identity (machine-id(5)), which it does not give away. Zero where the system has
// none, or has one that lasts only until it is started again. Never throws.
Id machine_identity(const std::string& file = "/etc/machine-id");
// Of text as it stands in such a file; zero when it is none.
Id machine_identity_of(std::string_view text);

}  // namespace kestrum
