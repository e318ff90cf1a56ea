// How much of a check of everything is done in one go.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "calendar/span.hpp"

namespace kestrum {

struct CheckLimit {
  std::optional<Span> time;            // one of them at most; none: everything
  std::optional<std::uint64_t> bytes;  // more than 0
  bool any() const { return time || bytes; }
  std::string text() const;  // "30 minutes", "20 GiB", "everything"
};

// What `text` makes, or the words "everything". Throws Error of kind usage.
CheckLimit parse_check_limit(std::string_view text);

}  // namespace kestrum
