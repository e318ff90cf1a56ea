#include "engine/earlier_point.hpp"

#include "archive/content_list.hpp"
#include "base/error.hpp"

namespace kestrum {

EarlierPoint::EarlierPoint(ChainReader& chain, Sequence point, ChunkSink& writer,
                           std::function<bool(const Entry&)> there)
    : chain_(chain), sequence_(point), writer_(writer), there_(std::move(there)) {}

bool EarlierPoint::open() {
  if (tried_) return point_.has_value();
  tried_ = true;
  try {
    point_.emplace(chain_, sequence_);
    started_ = point_->set().facts().started;
  } catch (const Error& error) {
    if (!does_not_read(error) && error.kind() != ErrorKind::key) throw;
    point_.reset();
  }
  return point_.has_value();
}

std::optional<Entry> EarlierPoint::carried(Entry entry, std::uint32_t filesystem) {
  bool was_whole = !entry.incomplete || entry.type == EntryType::folder;
  if (!was_whole) return std::nullopt;
  if (there_) {
    if (!there_(entry)) return std::nullopt;  // its file system is one of the new set's too
  } else {
    put_anew(entry);
    entry.several_names = false;  // its other names may be read now, and be others
    entry.filesystem = filesystem;
  }
  if (!entry.carried_from) entry.carried_from = started_;
  return entry;
}

void EarlierPoint::put_anew(Entry& entry) {
  if (entry.attribute_chunk) {
    Bytes attributes = point_->fetch(*entry.attribute_chunk);
    entry.attribute_chunk = writer_.put(FrameKind::catalog, attributes);
  }
  ContentListBuilder list(writer_);
  walk_content(entry.content, *point_, [&](const ContentItem& item) {
    ContentItem own = item;
    if (item.kind == ItemKind::data) {
      Bytes content = point_->fetch(item.ref());
      ChunkRef ref = writer_.put(FrameKind::content, content);
      own.name = ref.name;
      own.sequence = ref.sequence;
    }
    list.add(own);
  });
  entry.content = list.finish();
}

std::optional<Entry> EarlierPoint::find(const TreePath& path) {
  if (!open()) return std::nullopt;
  CatalogReader catalog(*point_, point_->set().root().catalog);
  return catalog.find(path);
}

std::optional<Entry> EarlierPoint::leaf(const TreePath& path, std::uint32_t filesystem) {
  try {
    std::optional<Entry> entry = find(path);
    if (!entry || entry->type == EntryType::folder) return std::nullopt;
    return carried(std::move(*entry), filesystem);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return std::nullopt;
  }
}

std::optional<Entry> EarlierPoint::above(const TreePath& path, std::uint32_t filesystem) {
  try {
    std::optional<Entry> entry = find(path);
    if (!entry || entry->type != EntryType::folder) return std::nullopt;
    entry->above_source = true;
    return carried(std::move(*entry), filesystem);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return std::nullopt;
  }
}

std::vector<TreePath> EarlierPoint::children(const TreePath& folder) {
  std::vector<TreePath> paths;
  if (!open()) return paths;
  CatalogReader catalog(*point_, point_->set().root().catalog);
  try {
    catalog.each_child(folder, [&](const Entry& entry) { paths.push_back(entry.path); });
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  return paths;
}

void EarlierPoint::each_within(const TreePath& path, bool with_itself, std::uint32_t filesystem,
                               const Take& take) {
  if (!open()) return;
  CatalogReader catalog(*point_, point_->set().root().catalog);
  try {
    catalog.seek(path);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return;
  }
  while (true) {
    try {
      std::optional<Entry> entry = catalog.next();
      if (!entry || !entry->path.is_within(path)) return;
      if (!with_itself && entry->path == path) continue;
      if (std::optional<Entry> kept = carried(std::move(*entry), filesystem)) take(*kept);
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      if (CatalogReader::Gap gap; !catalog.pass_damage(gap)) return;
    }
  }
}

}  // namespace kestrum
