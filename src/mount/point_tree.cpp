#include "mount/point_tree.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// A thousand small folders, or a large one and few more.
constexpr std::size_t most_kept_items = 50000;

ShownItem item_of(const Entry& entry) {
  ShownItem item;
  item.name = std::string(entry.path.name());
  item.type = entry.type;
  item.mode = entry.mode;
  item.owner = entry.owner;
  item.group = entry.group;
  item.modified = entry.modified;
  item.size = entry.type == EntryType::symlink ? entry.link_target.size() : entry.size;
  return item;
}

}  // namespace

PointTree::PointTree(LookSession& session, Sequence point)
    : point_(session, PointWish{PointWish::By::number, point, {}}) {}

template <typename Use>
auto PointTree::with_current(Use&& use) {
  try {
    return use();
  } catch (const Error& error) {
    if (!does_not_read(error) || !point_.renew()) throw;
    ++generation_;
    kept_.clear();
    kept_items_ = 0;
    return use();
  }
}

std::shared_ptr<ShownFolder> PointTree::list(const TreePath& path, const CatalogReader::OnGap& gap) {
  CatalogReader catalog = point_.catalog();
  auto folder = std::make_shared<ShownFolder>();
  folder->self = {{}, EntryType::folder, 0755, 0, 0, point_.facts().started, 0};
  try {
    const std::optional<Entry> self = catalog.find(path);
    if (self ? self->type != EntryType::folder : !path.is_root()) return nullptr;
    if (self) folder->self = item_of(*self);
  } catch (const Error& error) {
    if (!gap || !path.is_root() || !does_not_read(error)) throw;
    folder->self.mode = 0700;  // nobody knows who may see what is in it
  }
  const auto take = [&](const Entry& entry) {
    // Behind a gap the order is not proved.
    if (folder->items.empty() || folder->items.back().name < entry.path.name())
      folder->items.push_back(item_of(entry));
  };
  catalog.each_child(path, take, gap);
  return folder;
}

std::shared_ptr<ShownFolder> PointTree::list_what_reads(const TreePath& path) {
  try {
    return with_current([&] { return list(path, {}); });
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  std::vector<ShownFolder::Gap> gaps;
  const std::shared_ptr<ShownFolder> folder =
      list(path, [&](const CatalogReader::Gap& range, const Error& error) {
        gaps.push_back({range, error.what()});
      });
  if (folder) folder->gaps = std::move(gaps);
  return folder;
}

std::shared_ptr<const ShownFolder> PointTree::folder(const TreePath& path) {
  const auto kept =
      std::find_if(kept_.begin(), kept_.end(), [&](const Kept& one) { return one.path == path; });
  if (kept != kept_.end()) {
    kept_.splice(kept_.begin(), kept_, kept);
    return kept_.front().folder;
  }
  std::shared_ptr<const ShownFolder> folder = list_what_reads(path);
  if (!folder) return nullptr;
  kept_.push_front({path, folder});
  kept_items_ += folder->items.size() + 1;
  while (kept_items_ > most_kept_items && kept_.size() > 1) {
    kept_items_ -= kept_.back().folder->items.size() + 1;
    kept_.pop_back();
  }
  return folder;
}

std::optional<ShownItem> PointTree::item(const TreePath& path) {
  if (path.is_root()) {
    const std::shared_ptr<const ShownFolder> root = folder(path);
    return root ? std::optional(root->self) : std::nullopt;
  }
  const std::shared_ptr<const ShownFolder> above = folder(path.parent());
  if (!above) return std::nullopt;
  const auto found =
      std::lower_bound(above->items.begin(), above->items.end(), path.name(),
                       [](const ShownItem& one, std::string_view name) { return one.name < name; });
  if (found != above->items.end() && found->name == path.name()) return *found;
  for (const ShownFolder::Gap& gap : above->gaps) {
    if (gap.range.from <= path && (!gap.range.until || path < *gap.range.until))
      throw damage(gap_text(gap.range.from, gap.range.until, gap.reason));
  }
  return std::nullopt;
}

std::optional<Entry> PointTree::entry(const TreePath& path) {
  return with_current([&] { return point_.catalog().find(path); });
}

std::size_t PointTree::File::read(std::uint64_t offset, std::span<std::uint8_t> out) {
  return tree_->with_current([&] {
    if (!view_ || generation_ != tree_->generation_) {
      // What a fold has moved is found by the new list.
      if (generation_ != 0) {
        if (std::optional<Entry> now = tree_->point_.catalog().find(entry_.path)) entry_ = std::move(*now);
      }
      view_ = std::make_unique<FileView>(tree_->point_.reader(), entry_);
      generation_ = tree_->generation_;
    }
    return view_->read_at(offset, out);
  });
}

}  // namespace kestrum
