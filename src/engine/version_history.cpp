#include "engine/version_history.hpp"

#include <algorithm>
#include <set>
#include <tuple>

#include "engine/point_difference.hpp"

namespace kestrum {
namespace {

class Historian {
 public:
  Historian(std::vector<LookSession>& sessions, RunControl& control)
      : sessions_(sessions), control_(control) {}

  FileHistory run(const TreePath& path) {
    constexpr std::size_t most_names = 20;
    std::optional<TreePath> at = path;
    std::optional<Instant> until;  // versions of a name before it was moved away
    std::set<TreePath> known;
    while (at && known.insert(*at).second && result_.names.size() < most_names) {
      NameHistory name = versions_of(*at, until);
      if (name.versions.empty()) break;
      if (!result_.names.empty()) name.moved_to = result_.names.back().path;
      until = name.versions.front().first;
      at = name.moved_from;
      result_.names.push_back(std::move(name));
    }
    return std::move(result_);
  }

 private:
  NameHistory versions_of(const TreePath& path, const std::optional<Instant>& until) {
    NameHistory name{path, {}, {}, {}};
    const VersionSearch search = find_versions(sessions_, NameQuery{}, {.within = path}, control_,
                                               [&](std::vector<FoundVersion> found) {
                                                 if (found.front().entry.path == path)
                                                   name.versions = std::move(found);
                                               });
    if (result_.names.empty()) {
      result_.points = search.points;
      result_.unread = search.unread;
    }
    result_.pages_read += search.pages_read;
    std::erase_if(name.versions, [&](const FoundVersion& one) { return until && *until <= one.first; });
    std::stable_sort(name.versions.begin(), name.versions.end(),
                     [](const FoundVersion& a, const FoundVersion& b) {
                       return std::tie(a.first, a.session) < std::tie(b.first, b.session);
                     });
    if (name.versions.empty()) return name;
    const FoundVersion& first = name.versions.front();
    if (first.preceded)
      name.moved_from = other_name(first, *first.preceded, first.points.front(), Differs::gone);
    const auto last =
        std::max_element(name.versions.begin(), name.versions.end(),
                         [](const FoundVersion& a, const FoundVersion& b) { return a.last < b.last; });
    if (last->after == AfterVersion::gone && result_.names.empty())
      name.moved_to = other_name(*last, last->points.back(), *last->followed, Differs::added);
    return name;
  }

  // Between two points, what has that content and went or was added; one of the same name is the likelier.
  std::optional<TreePath> other_name(const FoundVersion& version, Sequence older, Sequence newer,
                                     Differs how) {
    const Entry& entry = version.entry;
    if (entry.type != EntryType::file || entry.size == 0) return std::nullopt;
    std::optional<TreePath> found;
    try {
      OpenPoint before(sessions_[version.session], {PointWish::By::number, older, {}});
      OpenPoint after(sessions_[version.session], {PointWish::By::number, newer, {}});
      const DifferenceWays ways{.gap = [](const CatalogMerge::Gap&) {}};
      result_.pages_read += each_difference(&before, after, ways, control_, [&](const Difference& one) {
        if (one.how != how || !has_content_of(one.entry(), entry)) return;
        if (!found || one.entry().path.name() == entry.path.name()) found = one.entry().path;
      });
    } catch (const Error& error) {
      if (!does_not_read(error) && error.kind() != ErrorKind::key) throw;
    }
    return found;
  }

  static bool has_content_of(const Entry& a, const Entry& b) {
    return a.type == b.type && a.size == b.size && a.content.size() == b.content.size() &&
           std::equal(a.content.begin(), a.content.end(), b.content.begin(),
                      [](const ContentItem& x, const ContentItem& y) {
                        return x.name == y.name && x.length == y.length;
                      });
  }

  std::vector<LookSession>& sessions_;
  RunControl& control_;
  FileHistory result_;
};

}  // namespace

FileHistory file_history(std::vector<LookSession>& sessions, const TreePath& path, RunControl& control) {
  return Historian(sessions, control).run(path);
}

}  // namespace kestrum
