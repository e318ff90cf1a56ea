// Several catalogs gone through side by side, in the order of their paths. A page that several have in common
// is read once, as long as they come to it together; so points of one job cost hardly more than one of them.
#pragma once

#include <functional>
#include <memory>

#include "archive/catalog_page.hpp"
#include "archive/chunk_store.hpp"
#include "base/error.hpp"

namespace kestrum {

class CatalogMerge {
 public:
  struct Source {
    ChunkSource* reader = nullptr;
    CatalogTop top;
    std::size_t family = 0;  // in one family pages of one name are the same page: they have one naming key
  };
  // A part of a catalog that does not read; it is passed over.
  struct Gap {
    std::vector<std::size_t> sources;  // that lack it
    TreePath from;
    std::optional<TreePath> until;  // nothing: not known how far
    std::string reason;             // plain words
  };
  struct Ways {
    TreePath within = {};               // this and all below it
    TreePath from = {};                 // nothing before it
    bool pass_shared = false;           // what stands in a page that all sources share is passed over
    std::function<void(Gap)> gap = {};  // none: damage is thrown
    Sieve sieve = {};  // pages of entries that it does not pass are passed over; none: none is
  };
  // The readers must outlive this.
  CatalogMerge(std::vector<Source> sources, Ways ways);
  ~CatalogMerge();

  // Goes to the next path. False at the end. Throws Error: damage, or whatever the system says.
  bool next();
  const std::string& joined() const;
  // What some sources have there; others may have the same in pages of their own.
  struct Side {
    const PageScan* scan = nullptr;
    const std::vector<std::size_t>* sources = nullptr;  // in order
  };
  const std::vector<Side>& sides() const { return sides_; }
  // Pages that were fetched.
  std::uint64_t pages_read() const { return pages_read_; }

 private:
  struct Node;
  struct Later;
  void open(const ChunkRef& ref, unsigned level, std::size_t family, std::vector<Node*> parents,
            std::vector<std::size_t> sources);
  std::unique_ptr<Node> load(const ChunkRef& ref, unsigned level, const std::vector<std::size_t>& sources);
  Bytes fetch(const ChunkRef& ref, const std::vector<std::size_t>& sources);
  bool is_sifted_out(const ChunkRef& ref, unsigned level, std::size_t source);
  bool place(Node& node) const;
  void wait(Node* node);
  void advance(Node* node);
  void open_links(std::vector<Node*> uppers);
  void tell_gap(const std::vector<Node*>& parents, const std::vector<std::size_t>& sources,
                const Error& error);

  std::vector<Source> sources_;
  Ways ways_;
  std::vector<std::unique_ptr<Node>> nodes_;  // all that live
  std::vector<Node*> waiting_;                // a heap: the earliest path on top
  std::vector<Node*> front_;                  // at the path at hand
  std::vector<Side> sides_;
  std::string last_;
  bool any_ = false;
  std::uint64_t pages_read_ = 0;
};

}  // namespace kestrum
