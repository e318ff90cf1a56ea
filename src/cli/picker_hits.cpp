#include "cli/picker_hits.hpp"

#include <fmt/format.h>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/progress.hpp"
#include "cli/version_lines.hpp"
#include "engine/version_history.hpp"

namespace kestrum {
namespace {

struct Enough {};

PickerHit hit_of(const PickerPoints& points, const FoundVersion& version, const std::string& left,
                 bool modified) {
  return {version.entry.path, left,
          (version.entry.has_content() ? size_text(version.entry.size) : std::string()) +
              (modified ? " of " + local_text(version.entry.modified) : std::string()) + ", " +
              after_text(version),
          points.place_of(version.session, version.points.back())};
}

}  // namespace

std::string name_and_folder(const TreePath& path, bool folder) {
  return printable(path.name()) + (folder ? "/" : "") + "  in " + printable(path.parent().absolute());
}

PickerHits found_here(PickerPoints& points, const std::string& wanted) {
  const NameMatcher matcher(NameQuery{.pattern = wanted});
  PickerHits found;
  std::vector<PickerHit>& hits = found.hits;
  const auto take = [&](const Entry& entry) {
    process_control().checkpoint();
    if (!matcher.fits(entry)) return;
    if (hits.size() == most_picker_hits) throw Enough{};
    const TreeItem item = points.item_of(entry);
    hits.push_back({entry.path, name_and_folder(entry.path, item.folder),
                    fmt::format("{} {:>9}  {}", item.note, item.bytes ? size_text(*item.bytes) : "",
                                local_text(entry.modified)),
                    points.current()});
  };
  try {
    points.with_point([&](OpenPoint& point) {
      hits.clear();
      found.unread = false;
      point.catalog().each_below({}, take,
                                 [&](const CatalogReader::Gap&, const Error&) { found.unread = true; });
    });
  } catch (const Enough&) {
  }
  return found;
}

PickerHits found_everywhere(PickerPoints& points, const std::string& wanted) {
  PickerHits found;
  std::vector<PickerHit>& hits = found.hits;
  try {
    const VersionSearch search = find_versions(
        points.chosen().subjects, NameQuery{.pattern = wanted}, {}, process_control(),
        [&](const std::vector<FoundVersion>& versions) {
          for (const FoundVersion& version : versions) {
            if (hits.size() == most_picker_hits) throw Enough{};
            const bool folder = version.entry.type == EntryType::folder;
            hits.push_back(hit_of(points, version, name_and_folder(version.entry.path, folder), false));
          }
        });
    found.unread = !search.unread.empty();
  } catch (const Enough&) {
  }
  return found;
}

PickerHits versions_of(PickerPoints& points, const TreePath& path) {
  const FileHistory history = file_history(points.chosen().subjects, path, process_control());
  PickerHits found;
  found.unread = !history.unread.empty();
  std::vector<PickerHit>& hits = found.hits;
  for (const NameHistory& name : history.names) {
    for (auto version = name.versions.rbegin(); version != name.versions.rend(); ++version) {
      const std::size_t place = points.place_of(version->session, version->points.back());
      hits.push_back(hit_of(points, *version,
                            "point " + points.number(points.all()[place]) + "  " +
                                (name.path == path ? "" : printable(name.path.absolute())),
                            true));
    }
  }
  return found;
}

}  // namespace kestrum
