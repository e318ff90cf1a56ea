// Text as HTML: nothing of it is ever taken for markup.
#pragma once

#include <string>
#include <string_view>

namespace kestrum {

// For content and for attributes in quotes. What is not UTF-8 becomes U+FFFD, control characters but newline
// go.
std::string html_text(std::string_view text);

}  // namespace kestrum
