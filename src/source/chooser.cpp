#include "source/chooser.hpp"

namespace kestrum {
namespace {

Instant modified(const struct stat& status) {
  return {status.st_mtim.tv_sec, static_cast<std::int32_t>(status.st_mtim.tv_nsec)};
}

}  // namespace

Choice Chooser::choose_place(const Place& place, const struct stat& status, int above) const {
  Choice choice;
  choice.taken = place.whole;
  choice.reason = place.whole ? Reason::place : Reason::searched;
  choice.category = place.category;
  choice.enter = S_ISDIR(status.st_mode);
  choice.inside.whole = place.whole;
  choice.inside.places_below = selection_.places_below(place.path);
  choice.inside.category = place.category;
  choice.inside.device = status.st_dev;
  if (place.category == 0) return choice;
  int rule = selection_.skip.deciding(place.path, choice.enter, above);
  if (!selection_.skip.leaves_out(rule) || selection_.skip.source(rule).origin != SkipRules::Origin::job)
    return choice;
  choice.taken = false;
  choice.reason = Reason::rule;
  choice.rule = choice.inside.rule = rule;
  choice.enter =
      choice.enter && (choice.inside.places_below || selection_.skip.may_take_back_below(place.path, rule));
  return choice;
}

std::optional<Reason> Chooser::beyond_limits(const struct stat& status) const {
  const SelectionLimits& limits = selection_.limits;
  auto size = static_cast<std::uint64_t>(status.st_size);
  if (limits.largest && size > *limits.largest) return Reason::larger;
  if (limits.smallest && size < *limits.smallest) return Reason::smaller;
  if (limits.oldest && modified(status) < *limits.oldest) return Reason::older;
  if (limits.newest && modified(status) > *limits.newest) return Reason::newer;
  return std::nullopt;
}

void Chooser::choose_by_type(Choice& choice, const TreePath& path, const struct stat& status) const {
  choice.taken = false;
  choice.reason = Reason::other_type;
  if (!S_ISREG(status.st_mode)) return;
  std::string_view name = path.name();
  std::size_t dot = name.rfind('.');
  constexpr std::size_t longest = 12;
  if (dot == std::string_view::npos || dot == 0 || name.size() - dot - 1 > longest) return;
  std::string ending;  // short enough to need no memory of its own
  for (char c : name.substr(dot + 1)) ending += c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
  auto found = selection_.types.find(ending);
  if (found == selection_.types.end()) return;
  choice.taken = true;
  choice.reason = Reason::type;
  choice.category = found->second;
}

void Chooser::choose_folder(Choice& choice, const FolderChoice& parent, const TreePath& path,
                            const struct stat& status) const {
  choice.inside = parent;
  choice.inside.places_below = parent.places_below && selection_.places_below(path);
  choice.inside.rule = choice.rule;
  bool left_out = choice.reason == Reason::rule;
  bool wanted_below =
      choice.inside.places_below || (left_out && selection_.skip.may_take_back_below(path, choice.rule));
  choice.enter = !left_out || wanted_below;
  if (!left_out && !parent.whole) {
    choice.taken = false;
    bool hidden = path.name().starts_with('.');
    choice.reason = hidden ? Reason::hidden_in_search : Reason::searched;
    choice.inside.only_places = hidden;
  }
  if (!selection_.mounted_below && status.st_dev != parent.device && choice.enter) {
    choice.reason = Reason::mounted;
    choice.inside.only_places = true;
  }
  if (choice.inside.only_places) choice.enter = choice.inside.places_below;
}

Choice Chooser::choose(const FolderChoice& parent, const TreePath& path, const struct stat& status) const {
  if (parent.places_below) {
    if (const Place* place = selection_.place_at(path)) return choose_place(*place, status, parent.rule);
  }
  bool is_folder = S_ISDIR(status.st_mode);
  Choice choice;
  choice.category = parent.category;
  if (parent.only_places) {
    choice.reason = parent.whole ? Reason::mounted : Reason::hidden_in_search;
    choice.inside = parent;
    choice.inside.places_below = is_folder && parent.places_below && selection_.places_below(path);
    choice.enter = choice.inside.places_below;
    return choice;
  }
  choice.rule = selection_.skip.deciding(path, is_folder, parent.rule);
  choice.taken = !selection_.skip.leaves_out(choice.rule);
  if (!choice.taken) {
    choice.reason = Reason::rule;
  } else if (choice.rule != SkipRules::no_rule) {
    choice.reason = Reason::taken_back;
  }
  if (is_folder) {
    choose_folder(choice, parent, path, status);
    return choice;
  }
  if (choice.taken && !parent.whole) choose_by_type(choice, path, status);
  if (choice.taken && S_ISREG(status.st_mode)) {
    if (std::optional<Reason> beyond = beyond_limits(status)) {
      choice.taken = false;
      choice.reason = *beyond;
    }
  }
  return choice;
}

}  // namespace kestrum
