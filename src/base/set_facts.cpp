#include "base/set_facts.hpp"

#include <charconv>

#include "base/text.hpp"

namespace kestrum {

std::string_view kind_name(Kind kind) {
  switch (kind) {
    case Kind::full:
      return "full";
    case Kind::incremental:
      return "incremental";
    case Kind::differential:
      return "differential";
  }
  return "?";
}

std::optional<Kind> parse_kind(std::string_view name) {
  for (Kind kind : {Kind::full, Kind::incremental, Kind::differential}) {
    if (name == kind_name(kind)) return kind;
  }
  return std::nullopt;
}

std::string_view guard_name(GuardMark mark) {
  static constexpr std::string_view names[] = {"none", "suspect", "trusted", "rejected"};
  return names[static_cast<std::size_t>(mark)];
}

bool SetFacts::meets(const SetNeed& need, const Id& other_chain) const {
  if (set == need.set) return true;
  return folded_from && chain == other_chain && *folded_from <= need.sequence && need.sequence <= sequence;
}

bool LostPlaces::covers(std::uint32_t slot, std::uint64_t offset) const {
  if (slots.contains(slot)) return true;
  auto found = frames.find(slot);
  return found != frames.end() && found->second.contains(offset);
}

void LostPlaces::add(const LostPlaces& other) {
  slots.insert(other.slots.begin(), other.slots.end());
  for (const auto& [slot, offsets] : other.frames) frames[slot].insert(offsets.begin(), offsets.end());
}

void LostPlaces::take_out(const Stretch& stretch) {
  const auto found = frames.find(stretch.slot);
  if (found == frames.end()) return;
  std::set<std::uint64_t>& offsets = found->second;
  offsets.erase(offsets.lower_bound(stretch.from), offsets.lower_bound(stretch.to));
  if (offsets.empty()) frames.erase(found);
}

std::string LostPlaces::text() const {
  std::vector<std::string> parts;
  for (std::uint32_t slot : slots) parts.push_back(std::to_string(slot));
  for (const auto& [slot, offsets] : frames) {
    for (std::uint64_t offset : offsets) parts.push_back(std::to_string(slot) + ":" + std::to_string(offset));
  }
  return join(parts, " ");
}

LostPlaces LostPlaces::parse(std::string_view text) {
  LostPlaces lost;
  for (const std::string& part : split(text, ' ')) {
    std::uint32_t slot = 0;
    std::uint64_t offset = 0;
    const char* end = part.data() + part.size();
    auto [after, code] = std::from_chars(part.data(), end, slot);
    if (code != std::errc()) continue;
    if (after == end) lost.slots.insert(slot);
    if (after == end || *after != ':') continue;
    if (std::from_chars(after + 1, end, offset).ec == std::errc()) lost.frames[slot].insert(offset);
  }
  return lost;
}

}  // namespace kestrum
