#include "base/set_facts.hpp"

namespace kestrum {

std::string_view kind_name(Kind kind) {
  switch (kind) {
    case Kind::full: return "full";
    case Kind::incremental: return "incremental";
    case Kind::differential: return "differential";
  }
  return "?";
}

std::optional<Kind> parse_kind(std::string_view name) {
  for (Kind kind : {Kind::full, Kind::incremental, Kind::differential}) {
    if (name == kind_name(kind)) return kind;
  }
  return std::nullopt;
}

}  // namespace kestrum
