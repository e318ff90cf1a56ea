// Shell-like patterns on bytes: `*` stands for anything but '/', `?` for one byte but '/', `**` for anything
// (`**/` for nothing too), `[abc]` and `[a-z]` for one of them, `[!abc]` for none of them, `\` takes the next
// byte as it is.
#pragma once

#include <string_view>

namespace kestrum {

// Of the whole of `text`, in time proportional to both lengths multiplied at worst.
bool matches_pattern(std::string_view pattern, std::string_view text);

// Whether something below `folder` could match; both without a leading '/'. True rather than false where
// `**` leaves it open.
bool may_match_below(std::string_view pattern, std::string_view folder);

}  // namespace kestrum
