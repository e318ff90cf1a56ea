// Where a chunk lies: docs/FORMAT.md section 6.
#pragma once

#include "archive/frame_file.hpp"

namespace kestrum {

struct IndexRecord {
  static constexpr std::size_t size = 56;
  ChunkName name;
  std::uint32_t slot = 0;
  FramePlace frame;
  std::uint32_t offset = 0;  // in the frame's content
  std::uint32_t length = 0;
};

void write_record(ByteWriter& out, const IndexRecord& record);
IndexRecord read_record(ByteReader& in);

// One page's first name and place.
struct FencePost {
  ChunkName first;
  FramePlace frame;
};

// The post whose page may hold `name`; nothing when it is before the first.
const FencePost* find_post(const std::vector<FencePost>& fence, const ChunkName& name);
// Binary search in a page of whole records, sorted.
std::optional<IndexRecord> find_record(ByteView page, const ChunkName& name);

}  // namespace kestrum
