// What an earlier point holds of what cannot be read now: the new set carries it on, marked with its date, so
// that the last content that could be read does not go with the last point that holds it.
#pragma once

#include <functional>

#include "archive/catalog_reader.hpp"
#include "archive/chain_reader.hpp"

namespace kestrum {

class EarlierPoint {
 public:
  // `there`: whether a new set may refer to the content of an entry; none: it is of another chain, and its
  // content is put anew. Opened at the first question. References must outlive this.
  EarlierPoint(ChainReader& chain, Sequence point, ChunkSink& writer,
               std::function<bool(const Entry&)> there);

  // The file or link of that path, marked; nothing when it is not there, or its content was never whole, or
  // does not read any more. `filesystem`: its ordinal now.
  std::optional<Entry> leaf(const TreePath& path, std::uint32_t filesystem);
  // The folder of that path, marked, as one that stands above something carried on.
  std::optional<Entry> above(const TreePath& path, std::uint32_t filesystem);
  using Take = std::function<void(const Entry&)>;
  // What is at that path and all that is below it, in order.
  void whole(const TreePath& path, std::uint32_t filesystem, const Take& take) {
    each_within(path, true, filesystem, take);
  }
  // All that is below a folder, in order.
  void below(const TreePath& folder, std::uint32_t filesystem, const Take& take) {
    each_within(folder, false, filesystem, take);
  }
  // The paths of what is directly in a folder, in order.
  std::vector<TreePath> children(const TreePath& folder);
  Instant started() const { return started_; }

 private:
  bool open();
  std::optional<Entry> find(const TreePath& path);
  void each_within(const TreePath& path, bool with_itself, std::uint32_t filesystem, const Take& take);
  std::optional<Entry> carried(Entry entry, std::uint32_t filesystem);
  void put_anew(Entry& entry);

  ChainReader& chain_;
  Sequence sequence_;
  ChunkSink& writer_;
  std::function<bool(const Entry&)> there_;
  bool tried_ = false;
  std::optional<PointReader> point_;
  Instant started_;
};

}  // namespace kestrum
