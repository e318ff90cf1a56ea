#include "engine/point_difference.hpp"

#include <algorithm>

namespace kestrum {
namespace {

bool same_content(const Entry& a, const Entry& b) {
  return std::equal(a.content.begin(), a.content.end(), b.content.begin(), b.content.end(),
                    [](const ContentItem& x, const ContentItem& y) {
                      return x.kind == y.kind && x.length == y.length && x.name == y.name;
                    });
}

std::optional<Differs> difference(const Entry& before, const Entry& now) {
  const bool device = now.device_major != before.device_major || now.device_minor != before.device_minor;
  if (before.type != now.type || before.size != now.size || before.link_target != now.link_target || device ||
      !same_content(before, now))
    return Differs::changed;
  if (before.mode != now.mode || before.owner != now.owner || before.group != now.group ||
      (now.type != EntryType::folder && before.modified != now.modified) ||
      before.attributes != now.attributes)
    return Differs::attributes;
  return std::nullopt;
}

}  // namespace

std::string_view change_word(Differs how) {
  static constexpr std::string_view words[] = {"new", "changed", "attributes", "gone"};
  return words[static_cast<std::size_t>(how)];
}

void each_difference(OpenPoint* older, OpenPoint& newer, RunControl& control,
                     const std::function<void(Differs, const Entry&)>& use) {
  std::optional<CatalogReader> before;
  if (older != nullptr) before.emplace(older->catalog());
  CatalogReader now = newer.catalog();
  std::optional<Entry> old_one = before ? before->next() : std::nullopt, new_one = now.next();
  while (old_one || new_one) {
    control.checkpoint();
    if (!new_one || (old_one && old_one->path < new_one->path)) {
      use(Differs::gone, *old_one);
      old_one = before->next();
    } else if (!old_one || new_one->path < old_one->path) {
      use(Differs::added, *new_one);
      new_one = now.next();
    } else {
      if (std::optional<Differs> how = difference(*old_one, *new_one)) use(*how, *new_one);
      old_one = before->next();
      new_one = now.next();
    }
  }
}

void each_change_of(LookSession& session, Sequence sequence, RunControl& control,
                    const std::function<void(Differs, const Entry&)>& use) {
  const auto number = [](Sequence wanted) { return PointWish{PointWish::By::number, wanted, {}}; };
  OpenPoint newer(session, number(sequence));
  std::optional<Sequence> base = newer.facts().base;
  if (!base) {
    for (const FoundSet& set : session.sets())
      if (set.sealed() && set.folder.sequence < sequence) base = set.folder.sequence;
  }
  if (base && session.sets().sealed(*base) == nullptr) {
    throw Error(ErrorKind::usage,
                "point " + std::to_string(*base) + ", which point " + std::to_string(sequence) +
                    " was compared with, is not there any more",
                "look at the point itself: kestrum browse");
  }
  std::optional<OpenPoint> older;
  if (base) older.emplace(session, number(*base));
  each_difference(older ? &*older : nullptr, newer, control, use);
}

}  // namespace kestrum
