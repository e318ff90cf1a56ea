#include "engine/file_saver.hpp"

#include <cerrno>

#include "archive/content_list.hpp"
#include "base/error.hpp"

namespace kestrum {

void FileSaver::cut_full(ContentListBuilder& list) {
  while (pending_.size() - begin_ >= Cutter::max_size) {
    ByteView rest = ByteView(pending_).subspan(begin_);
    std::size_t length = cutter_.cut(rest);
    ChunkRef ref = sink_.put(FrameKind::content, rest.first(length));
    list.add({ItemKind::data, length, ref.name, ref.sequence, 0});
    begin_ += length;
  }
  if (begin_ > Cutter::max_size) {
    pending_.erase(pending_.begin(), pending_.begin() + static_cast<std::ptrdiff_t>(begin_));
    begin_ = 0;
  }
}

void FileSaver::cut_rest(ContentListBuilder& list) {
  while (begin_ < pending_.size()) {
    ByteView rest = ByteView(pending_).subspan(begin_);
    std::size_t length = cutter_.cut(rest);
    ChunkRef ref = sink_.put(FrameKind::content, rest.first(length));
    list.add({ItemKind::data, length, ref.name, ref.sequence, 0});
    begin_ += length;
  }
  pending_.clear();
  begin_ = 0;
}

FileSaver::Saved FileSaver::save(FileReader& file) {
  Saved saved;
  ContentListBuilder list(sink_);
  pending_.clear();
  begin_ = 0;
  FileReader::Sink sink;
  sink.data = [&](ByteView data) {
    control_.checkpoint();
    if (pace_ != nullptr) pace_->pass(data.size());
    if (saved.bytes_read == 0) saved.head = look_at_head(data);
    pending_.insert(pending_.end(), data.begin(), data.end());
    saved.bytes_read += data.size();
    cut_full(list);
    observer_.advanced(data.size(), 0);
  };
  sink.data_end = [&] { cut_rest(list); };
  sink.hole = [&](std::uint64_t length) {
    list.add({ItemKind::hole, length, {}, 0, 0});
    observer_.advanced(length, 0);
  };
  saved.code = file.read_all(sink);
  auto size = static_cast<std::uint64_t>(file.status().st_size);
  if (file.position() < size) {
    list.add({ItemKind::hole, size - file.position(), {}, 0, 0});
    saved.short_by_change = saved.code == 0;
  }
  saved.content = list.finish();
  // Leaves a margin for the lists themselves, which a reader counts too.
  if (list.count() > limits::content_items - limits::content_items / 64) {
    saved.code = EFBIG;
    saved.content = {ContentItem{ItemKind::hole, size, {}, 0, 0}};
  }
  return saved;
}

}  // namespace kestrum
