#include "archive/index_record.hpp"

#include <algorithm>

namespace kestrum {

void write_record(ByteWriter& out, const IndexRecord& record) {
  out.raw(record.name.bytes);
  out.u32(record.slot);
  out.u64(record.frame.offset);
  out.u32(record.frame.size);
  out.u32(record.offset);
  out.u32(record.length);
}

IndexRecord read_record(ByteReader& in) {
  IndexRecord record;
  record.name = read_name(in);
  record.slot = in.u32();
  record.frame.offset = in.u64();
  record.frame.size = in.u32();
  record.offset = in.u32();
  record.length = in.u32();
  return record;
}

const FencePost* find_post(const std::vector<FencePost>& fence, const ChunkName& name) {
  auto after =
      std::upper_bound(fence.begin(), fence.end(), name,
                       [](const ChunkName& wanted, const FencePost& post) { return wanted < post.first; });
  return after == fence.begin() ? nullptr : &*(after - 1);
}

std::optional<IndexRecord> find_record(ByteView page, const ChunkName& name) {
  std::size_t low = 0;
  std::size_t high = page.size() / IndexRecord::size;
  while (low < high) {
    std::size_t middle = (low + high) / 2;
    ByteView row = page.subspan(middle * IndexRecord::size, IndexRecord::size);
    int order = std::memcmp(row.data(), name.bytes.data(), name.bytes.size());
    if (order == 0) {
      ByteReader in(row);
      return read_record(in);
    }
    (order < 0 ? low : high) = order < 0 ? middle + 1 : middle;
  }
  return std::nullopt;
}

}  // namespace kestrum
