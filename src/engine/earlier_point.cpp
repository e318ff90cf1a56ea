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
    if (!there_(entry)) return std::nullopt;
  } else {
    put_anew(entry);
    entry.several_names = false;  // its other names may be read now, and be others
  }
  entry.filesystem = filesystem;
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

std::optional<Entry> EarlierPoint::leaf(const TreePath& path, std::uint32_t filesystem) {
  if (!open()) return std::nullopt;
  try {
    CatalogReader catalog(*point_, point_->set().root().catalog);
    std::optional<Entry> entry = catalog.find(path);
    if (!entry || entry->type == EntryType::folder) return std::nullopt;
    return carried(std::move(*entry), filesystem);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return std::nullopt;
  }
}

void EarlierPoint::below(const TreePath& folder, std::uint32_t filesystem,
                         const std::function<void(const Entry&)>& take) {
  if (!open()) return;
  CatalogReader catalog(*point_, point_->set().root().catalog);
  try {
    catalog.seek(folder);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return;
  }
  while (true) {
    try {
      std::optional<Entry> entry = catalog.next();
      if (!entry || !entry->path.is_within(folder)) return;
      if (entry->path == folder) continue;
      if (std::optional<Entry> kept = carried(std::move(*entry), filesystem)) take(*kept);
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      if (!catalog.skip_damaged_page()) return;
    }
  }
}

}  // namespace kestrum
