// The content of one file of a point, from anywhere in it.
#pragma once

#include "archive/chain_reader.hpp"
#include "archive/content_list.hpp"

namespace kestrum {

// Reads no more than what holds the stretch that is asked for. The reader and the entry must outlive it; one
// thread.
class FileView {
 public:
  FileView(PointReader& reader, const Entry& entry) : reader_(reader), entry_(entry) {}

  std::uint64_t size() const { return entry_.size; }

  // Calls `use` for one stretch after the other, with what is in it: fewer bytes than it is long (none) for a
  // hole. What lies beyond the end is left out. Throws Error of kind damage for what cannot be read; what
  // came before it was used then.
  void each(std::uint64_t offset, std::uint64_t length,
            const std::function<void(std::uint64_t length, ByteView content)>& use);

  // How many bytes were read: fewer than asked for only at the end of the file. Holes are zeros.
  std::size_t read_at(std::uint64_t offset, std::span<std::uint8_t> out);

 private:
  struct Range;
  void walk(const ContentList& list, std::uint64_t at, std::size_t depth, const Range& range);
  // Whoever reads on from where he was finds the lists that lead there decoded: one for each level.
  struct Kept {
    ChunkRef ref;
    std::shared_ptr<const ContentList> list;
  };
  std::shared_ptr<const ContentList> list_below(const ContentItem& item, std::size_t depth);

  PointReader& reader_;
  const Entry& entry_;
  std::vector<Kept> kept_;
};

}  // namespace kestrum
