#include "engine/restore.hpp"

namespace kestrum {

std::string_view fate_word(RestoreFate fate) {
  static constexpr std::string_view words[] = {"put",       "beside",  "replaces", "kept",
                                               "identical", "renamed", "in-parts", "device"};
  return words[static_cast<std::size_t>(fate)];
}

std::string_view fate_text(RestoreFate fate) {
  static constexpr std::string_view words[] = {"",
                                               "beside the one that is there",
                                               "replaces what was there",
                                               "what is there stays",
                                               "identical to what is there",
                                               "under another name",
                                               "in parts",
                                               "written over the device"};
  return words[static_cast<std::size_t>(fate)];
}

std::optional<OwnersAs> parse_owners(std::string_view name) {
  if (name == "name") return OwnersAs::names;
  if (name == "number") return OwnersAs::numbers;
  if (name == "mine") return OwnersAs::mine;
  return std::nullopt;
}

std::optional<Layout> parse_layout(std::string_view name) {
  if (name == "path") return Layout::path;
  if (name == "picked") return Layout::picked;
  if (name == "flat") return Layout::flat;
  return std::nullopt;
}

}  // namespace kestrum
