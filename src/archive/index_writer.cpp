#include "archive/index_writer.hpp"

namespace kestrum {

WrittenIndex write_index(Store& store, const std::string& path, const Id& job, const Id& set,
                         const SecretKey& master,
                         const std::function<void(const std::function<void(const IndexRecord&)>&)>& records) {
  constexpr std::size_t page_records = 292;  // 16 KiB
  FileHeader header{FileKind::index, 0, job, set, {}};
  fill_random(header.salt);
  FrameFileWriter file(store, path, master, header);
  Compressor compressor;
  ByteWriter page;
  ByteWriter fence;
  std::uint32_t pages = 0;
  ChunkName first;
  auto flush_page = [&] {
    if (page.size() == 0) return;
    FramePlace place = file.append(pack_frame({FrameKind::index_page, {}, page.take()}, 1, compressor));
    fence.raw(first.bytes);
    fence.u64(place.offset);
    fence.u32(place.size);
    ++pages;
  };
  records([&](const IndexRecord& record) {
    if (page.size() == 0) first = record.name;
    write_record(page, record);
    if (page.size() >= page_records * IndexRecord::size) flush_page();
  });
  flush_page();
  ByteWriter table;
  table.u32(pages);
  table.raw(fence.view());
  WrittenIndex written;
  written.fence = file.append(pack_frame({FrameKind::fence, {}, table.take()}, 1, compressor));
  written.file = file.finish();
  written.file.name = path.substr(path.rfind('/') + 1);
  return written;
}

}  // namespace kestrum
