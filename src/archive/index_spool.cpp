#include "archive/index_spool.hpp"

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <queue>

#include "base/error.hpp"

namespace kestrum {

IndexSpool::IndexSpool(std::string scratch_folder, std::size_t records_in_memory)
    : scratch_folder_(std::move(scratch_folder)), limit_(records_in_memory) {}

void IndexSpool::expect(const ChunkName& name) {
  std::lock_guard lock(mutex_);
  recent_.try_emplace(name, IndexRecord{.name = name, .slot = 0, .frame = {}, .offset = 0, .length = 0});
}

void IndexSpool::place(const std::vector<IndexRecord>& records) {
  std::lock_guard lock(mutex_);
  for (const IndexRecord& record : records) recent_[record.name] = record;
  placed_ += records.size();
  if (placed_ >= limit_) spill();
}

void IndexSpool::spill() {
  std::vector<IndexRecord> rows;
  rows.reserve(placed_);
  for (auto it = recent_.begin(); it != recent_.end();) {
    if (it->second.frame.size == 0) {
      ++it;
      continue;
    }
    rows.push_back(it->second);
    it = recent_.erase(it);
  }
  placed_ = 0;
  std::sort(rows.begin(), rows.end(), [](const auto& a, const auto& b) { return a.name < b.name; });
  Run run;
  for (std::size_t at = 0; at < rows.size(); at += page_records) {
    ByteWriter page;
    for (std::size_t i = at; i < std::min(rows.size(), at + page_records); ++i) write_record(page, rows[i]);
    write_page(run, page.view(), rows[at].name);
  }
  if (!run.fence.empty()) runs_.push_back(std::move(run));
}

void IndexSpool::write_page(Run& run, ByteView rows, const ChunkName& first) {
  if (!scratch_) scratch_ = scratch_file(scratch_folder_);
  Bytes box;
  aead_.seal(scratch_size_, {}, rows, box);
  std::size_t done = 0;
  while (done < box.size()) {
    ssize_t n = pwrite(scratch_.get(), box.data() + done, box.size() - done,
                       static_cast<off_t>(scratch_size_ + done));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error("write a scratch file in", scratch_folder_, errno);
    done += static_cast<std::size_t>(n);
  }
  run.fence.push_back({first, {scratch_size_, static_cast<std::uint32_t>(box.size())}});
  scratch_size_ += box.size();
}

Bytes IndexSpool::read_page(const FencePost& post) {
  Bytes box(post.frame.size);
  ssize_t n = read_full(scratch_.get(), box.data(), box.size(), static_cast<off_t>(post.frame.offset));
  if (n != static_cast<ssize_t>(box.size()))
    throw system_error("read a scratch file in", scratch_folder_, n < 0 ? errno : EIO);
  std::optional<Bytes> rows = aead_.open(post.frame.offset, {}, box);
  if (!rows)
    throw Error(ErrorKind::failed, "the scratch file in " + scratch_folder_ + " was changed while in use");
  return std::move(*rows);
}

bool IndexSpool::holds(const ChunkName& name) {
  std::lock_guard lock(mutex_);
  if (recent_.contains(name)) return true;
  return std::any_of(runs_.begin(), runs_.end(), [&](const Run& run) {
    const FencePost* post = find_post(run.fence, name);
    return post != nullptr && find_record(read_page(*post), name).has_value();
  });
}

void IndexSpool::merge(const std::function<void(const IndexRecord&)>& next) {
  std::lock_guard lock(mutex_);
  spill();
  if (!recent_.empty()) throw Error(ErrorKind::failed, "a chunk was announced but never written");
  struct Cursor {
    const Run* run;
    std::size_t page = 0;
    Bytes rows;
    std::size_t at = 0;
    ByteView row() const { return ByteView(rows).subspan(at, IndexRecord::size); }
  };
  std::vector<Cursor> cursors;
  for (const Run& run : runs_) cursors.push_back({&run, 0, read_page(run.fence[0]), 0});
  auto later = [&](std::size_t a, std::size_t b) {
    return std::memcmp(cursors[a].row().data(), cursors[b].row().data(), sizeof(ChunkName)) > 0;
  };
  std::priority_queue<std::size_t, std::vector<std::size_t>, decltype(later)> heap(later);
  for (std::size_t i = 0; i < cursors.size(); ++i) heap.push(i);
  while (!heap.empty()) {
    std::size_t which = heap.top();
    heap.pop();
    Cursor& cursor = cursors[which];
    ByteReader in(cursor.row());
    next(read_record(in));
    cursor.at += IndexRecord::size;
    if (cursor.at == cursor.rows.size()) {
      if (++cursor.page == cursor.run->fence.size()) continue;
      cursor.rows = read_page(cursor.run->fence[cursor.page]);
      cursor.at = 0;
    }
    heap.push(which);
  }
}

}  // namespace kestrum
