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

}  // namespace

std::optional<Differs> difference(const Entry& before, const Entry& now, bool same_names) {
  const bool device = now.device_major != before.device_major || now.device_minor != before.device_minor;
  if (before.type != now.type || before.size != now.size || before.link_target != now.link_target || device ||
      (same_names && !same_content(before, now)))
    return Differs::changed;
  const bool later = now.type != EntryType::folder && before.modified != now.modified;
  if (later && !same_names && now.has_content()) return Differs::changed;
  if (later || before.mode != now.mode || before.owner != now.owner || before.group != now.group ||
      (same_names && before.attributes != now.attributes))
    return Differs::attributes;
  return std::nullopt;
}

std::string_view change_word(Differs how) {
  static constexpr std::string_view words[] = {"new", "changed", "attributes", "gone", "moved"};
  return words[static_cast<std::size_t>(how)];
}

std::uint64_t each_difference(OpenPoint* older, OpenPoint& newer, const DifferenceWays& ways,
                              RunControl& control, const OnDifference& use) {
  constexpr std::size_t now_side = 0;
  std::vector<CatalogMerge::Source> sources;
  const auto add = [&](OpenPoint& point, std::size_t family) {
    sources.push_back({&point.reader(), point.reader().set().root().catalog, family});
  };
  const bool same_names = older == nullptr || older->reader().naming().key() == newer.reader().naming().key();
  add(newer, 0);
  if (older != nullptr) add(*older, same_names ? 0 : 1);
  CatalogMerge merge(std::move(sources),
                     {.within = ways.within, .pass_shared = older != nullptr, .gap = ways.gap});
  while (merge.next()) {
    control.checkpoint();
    std::optional<Entry> before, now;
    for (const CatalogMerge::Side& side : merge.sides()) {
      (side.sources->front() == now_side ? now : before) = side.scan->entry();
    }
    if (before && now) {
      if (const std::optional<Differs> how = difference(*before, *now, same_names))
        use({*how, &*before, &*now});
    } else if (now) {
      use({Differs::added, nullptr, &*now});
    } else if (before) {
      use({Differs::gone, &*before, nullptr});
    }
  }
  return merge.pages_read();
}

void each_change_of(LookSession& session, Sequence sequence, RunControl& control, const OnDifference& use) {
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
  each_difference(older ? &*older : nullptr, newer, {}, control, use);
}

}  // namespace kestrum
