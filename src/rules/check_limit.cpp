#include "rules/check_limit.hpp"

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

std::string CheckLimit::text() const {
  return time ? time->text() : bytes ? size_text(*bytes) : "everything";
}

CheckLimit parse_check_limit(std::string_view text) {
  if (text == "everything") return {};
  if (const std::optional<Span> span = parse_span(text)) return {span, {}};
  if (const std::optional<std::uint64_t> bytes = parse_size(text); bytes && *bytes > 0) return {{}, bytes};
  throw Error(ErrorKind::usage,
              "'" + printable(std::string(text)) + "' is neither a length of time nor a size, nor everything",
              "give one like \"30 minutes\" or \"20 GiB\"");
}

}  // namespace kestrum
