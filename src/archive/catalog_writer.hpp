// Writes a catalog as pages in a tree, in bounded memory: one open page a level.
#pragma once

#include "archive/catalog_page.hpp"
#include "archive/chunk_store.hpp"

namespace kestrum {

// Entries must come in catalog order. The sink must outlive this.
class CatalogWriter {
 public:
  // Where pages are cut depends on a key derived from the naming key and on paths only, so that an unchanged
  // stretch of the list gives the same pages again.
  CatalogWriter(ChunkSink& sink, const SecretKey& naming_key);
  void add(const Entry& entry);
  // Takes a whole page of level 0 over from another catalog of the same naming key. False, and nothing is
  // done, where no page may begin before it: its entries are to be added then.
  bool add_page(const PageLink& link);
  CatalogTop finish();

 private:
  struct Level {
    ByteWriter page;
    std::uint64_t count = 0;
    TreePath first;
    std::string last;
    std::uint64_t entries = 0;
    std::uint64_t bytes = 0;
    std::uint64_t pages_done = 0;
  };
  template <typename Encode>
  void add_at(std::size_t level, const TreePath& path, std::uint64_t entries, std::uint64_t bytes,
              Encode&& encode);
  PageLink flush(std::size_t level);
  void add_link(std::size_t level, const PageLink& link);
  bool is_boundary(std::size_t level, const TreePath& path) const;

  ChunkSink& sink_;
  Bytes scratch_;
  std::uint64_t seed_;
  std::vector<Level> levels_;
};

}  // namespace kestrum
