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

namespace {

// Indexes have millions of records: their size is asked for once, not once a number.
template <typename Number>
Number number_at(ByteView row, std::size_t at) {
  Number value = 0;
  for (std::size_t i = 0; i < sizeof(Number); ++i)
    value |= static_cast<Number>(Number{row[at + i]} << (8 * i));
  return value;
}

}  // namespace

IndexRecord read_record(ByteReader& in) {
  ByteView row = in.raw(IndexRecord::size);
  IndexRecord record;
  std::copy_n(row.begin(), record.name.bytes.size(), record.name.bytes.begin());
  record.slot = number_at<std::uint32_t>(row, 32);
  record.frame.offset = number_at<std::uint64_t>(row, 36);
  record.frame.size = number_at<std::uint32_t>(row, 44);
  record.offset = number_at<std::uint32_t>(row, 48);
  record.length = number_at<std::uint32_t>(row, 52);
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
