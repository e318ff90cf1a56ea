// A restored thing, as documents tell it.
#pragma once

#include "engine/restore.hpp"
#include "tell/json_parts.hpp"

namespace kestrum {

Json restored_json(const RestoredItem& item);

}  // namespace kestrum
