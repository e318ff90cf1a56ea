#include "archive/catalog_writer.hpp"

#include <xxhash.h>

#include "base/error.hpp"

namespace kestrum {
namespace {

// With entries of about 200 bytes, a cut before one in 64 after the minimum gives pages of about 16 KiB:
// small enough that a changed file costs little, large enough that the tree over a million files has three
// levels.
constexpr std::size_t min_page = 4u << 10;
constexpr std::uint64_t boundary_mask = 63;

}  // namespace

CatalogWriter::CatalogWriter(ChunkSink& sink, const SecretKey& naming_key) : sink_(sink) {
  SecretKey key = derive(naming_key, "catalog-cut", {});
  seed_ = ByteReader(key.view()).u64();
  levels_.reserve(limits::levels + 1);
  levels_.emplace_back();
}

bool CatalogWriter::is_boundary(std::size_t level, const TreePath& path) const {
  return (XXH3_64bits_withSeed(path.joined().data(), path.joined().size(), seed_ + level) & boundary_mask) ==
         0;
}

template <typename Encode>
void CatalogWriter::add_at(std::size_t level, const TreePath& path, std::uint64_t entries,
                           std::uint64_t bytes, Encode&& encode) {
  if (levels_[level].page.size() >= min_page && is_boundary(level, path)) add_link(level + 1, flush(level));
  ByteWriter encoded(std::move(scratch_));
  encode(encoded, levels_[level].last);
  if (levels_[level].count > 0 && levels_[level].page.size() + encoded.size() > limits::page - 16) {
    add_link(level + 1, flush(level));
    encoded.clear();
    encode(encoded, levels_[level].last);
  }
  Level& open = levels_[level];
  if (open.count == 0) open.first = path;
  open.page.raw(encoded.view());
  open.last = path.joined();
  scratch_ = encoded.take();
  ++open.count;
  open.entries += entries;
  open.bytes += bytes;
}

void CatalogWriter::add(const Entry& entry) {
  add_at(0, entry.path, 1, entry.has_content() ? entry.size : 0,
         [&](ByteWriter& out, const std::string& last) { write_entry(out, entry, last); });
}

bool CatalogWriter::add_page(const PageLink& link) {
  const Level& open = levels_[0];
  const bool may_cut = open.count == 0 || (open.page.size() >= min_page && is_boundary(0, link.first));
  if (!may_cut) return false;
  if (open.count > 0) add_link(1, flush(0));
  add_link(1, link);
  ++levels_[0].pages_done;
  return true;
}

void CatalogWriter::add_link(std::size_t level, const PageLink& link) {
  if (level > limits::levels) throw Error(ErrorKind::failed, "the catalog would have too many levels");
  if (level == levels_.size()) levels_.emplace_back();
  add_at(level, link.first, link.entries, link.bytes, [&](ByteWriter& out, const std::string& last) {
    write_path(out, link.first.joined(), last);
    write_ref(out, link.page);
    out.varint(link.entries);
    out.varint(link.bytes);
  });
}

PageLink CatalogWriter::flush(std::size_t level) {
  Level& open = levels_[level];
  ByteWriter page;
  page.u8(1);
  page.u8(static_cast<std::uint8_t>(level));
  page.varint(open.count);
  page.raw(open.page.view());
  PageLink link{open.first, sink_.put(FrameKind::catalog, page.view()), open.entries, open.bytes};
  std::uint64_t done = open.pages_done + 1;
  open = {};
  open.pages_done = done;
  return link;
}

CatalogTop CatalogWriter::finish() {
  for (std::size_t level = 0;; ++level) {
    bool only_page = levels_[level].pages_done == 0;
    if (only_page) return {flush(level).page, static_cast<unsigned>(level)};
    if (levels_[level].count > 0) add_link(level + 1, flush(level));
  }
}

}  // namespace kestrum
