#include "source/changed_folders.hpp"

namespace kestrum {
namespace {

using How = FolderChange::How;
constexpr std::size_t most_names = 256;

}  // namespace

FolderChange FolderChange::of_name(std::string_view name) {
  FolderChange change;
  change.add_name(name);
  return change;
}

void FolderChange::add_name(std::string_view name) {
  // Such a tag changes what else is taken from the folder, and while it was there nobody told what happened
  // in it.
  if (name == "CACHEDIR.TAG") {
    how = How::whole;
  } else if (how == How::named && names.size() >= most_names) {
    how = How::listed;
  } else if (how == How::named) {
    names.emplace(name);
  }
  if (how != How::named) names.clear();
}

void FolderChange::add(const FolderChange& other) {
  if (other.how > how) {
    how = other.how;
    names.clear();
  }
  for (const std::string& name : other.names) add_name(name);
}

void ChangedFolders::add(const TreePath& folder, const FolderChange& change) {
  const auto [at, added] = folders_.try_emplace(folder);
  at->second.add(change);
  if (added) by_path_.emplace(at->first.joined(), &at->second);
  any_whole_ = any_whole_ || at->second.how == How::whole;
}

const FolderChange* ChangedFolders::find(std::string_view joined) const {
  auto found = by_path_.find(joined);
  return found == by_path_.end() ? nullptr : found->second;
}

bool ChangedFolders::is_whole(const TreePath& path) const {
  if (!any_whole_) return false;
  for (TreePath up = path;; up = up.parent()) {
    if (const FolderChange* change = find(up.joined()); change != nullptr && change->how == How::whole)
      return true;
    if (up.is_root()) return false;
  }
}

bool ChangedFolders::is_listed(const TreePath& folder) const {
  const FolderChange* change = find(folder.joined());
  return (change != nullptr && change->how == How::listed) || is_whole(folder);
}

bool ChangedFolders::any_below(const TreePath& folder) const {
  auto next = folders_.upper_bound(folder);
  return next != folders_.end() && next->first.is_within(folder);
}

bool ChangedFolders::touches(const TreePath& path) const {
  if (is_changed(path) || is_whole(path)) return true;
  const std::string_view joined = path.joined();
  const std::size_t slash = joined.rfind('/');
  const FolderChange* in =
      joined.empty() ? nullptr : find(joined.substr(0, slash == std::string_view::npos ? 0 : slash));
  return in != nullptr && (in->how != How::named || in->names.contains(path.name()));
}

bool ChangedFolders::may_touch(const TreePath& first, const TreePath& until) const {
  if (touches(first)) return true;
  // Everything in between lies within the folder that both lie in.
  TreePath both = first;
  while (!both.is_root() && !until.is_within(both)) both = both.parent();
  if (is_whole(both)) return true;
  // Of the folders that `first` lies in, what comes behind it in them.
  for (TreePath folder = first; folder != both;) {
    const TreePath in = folder;
    folder = folder.parent();
    const FolderChange* change = find(folder.joined());
    if (change == nullptr) continue;
    if (change->how != How::named) return true;
    auto name = change->names.upper_bound(std::string(in.name()));
    if (name != change->names.end() && folder.child(*name) < until) return true;
  }
  if (first == both && is_changed(both)) return true;
  auto next = folders_.lower_bound(first);
  return next != folders_.end() && next->first < until;
}

std::vector<std::string> ChangedFolders::names_in(const TreePath& folder) const {
  std::set<std::string, std::less<>> names;
  if (const FolderChange* change = find(folder.joined())) names = change->names;
  for (auto at = folders_.upper_bound(folder); at != folders_.end() && at->first.is_within(folder); ++at) {
    const TreePath rest = at->first.below(folder);
    names.insert(rest.joined().substr(0, rest.joined().find('/')));
  }
  return {names.begin(), names.end()};
}

}  // namespace kestrum
