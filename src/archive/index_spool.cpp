#include "archive/index_spool.hpp"

#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <filesystem>
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

std::vector<IndexRecord> IndexSpool::take_placed() {
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
  return rows;
}

void IndexSpool::spill() {
  std::vector<IndexRecord> rows = take_placed();
  if (rows.empty()) return;
  try {
    if (!scratch_)
      scratch_ = std::make_shared<Scratch>(Scratch{scratch_file(scratch_folder_), scratch_folder_});
    runs_.push_back(write_run(rows));
  } catch (const Error&) {
    std::error_code code;
    std::string other = std::filesystem::temp_directory_path(code).string();
    if (code || other == (scratch_ ? scratch_->folder : scratch_folder_)) throw;
    scratch_ = std::make_shared<Scratch>(Scratch{scratch_file(other), other});
    runs_.push_back(write_run(rows));
  }
}

IndexSpool::Run IndexSpool::write_run(const std::vector<IndexRecord>& rows) {
  Run run{{}, scratch_};
  for (std::size_t at = 0; at < rows.size(); at += page_records) {
    ByteWriter page;
    for (std::size_t i = at; i < std::min(rows.size(), at + page_records); ++i) write_record(page, rows[i]);
    write_page(run, page.view(), rows[at].name);
  }
  return run;
}

void IndexSpool::write_page(Run& run, ByteView rows, const ChunkName& first) {
  Scratch& scratch = *run.scratch;
  ByteWriter page;
  std::uint64_t ordinal = ++ordinal_;
  page.u64(ordinal);
  Bytes box;
  aead_.seal(ordinal, {}, rows, box);
  page.raw(box);
  ByteView left = page.view();
  std::uint64_t begin = scratch.size;
  while (!left.empty()) {
    ssize_t n = pwrite(scratch.file.get(), left.data(), left.size(), static_cast<off_t>(scratch.size));
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) throw system_error("write a scratch file in", scratch.folder, errno);
    left = left.subspan(static_cast<std::size_t>(n));
    scratch.size += static_cast<std::uint64_t>(n);
  }
  run.fence.push_back({first, {begin, static_cast<std::uint32_t>(page.size())}});
}

Bytes IndexSpool::read_page(const Run& run, const FencePost& post) {
  Bytes page(post.frame.size);
  ssize_t n =
      read_full(run.scratch->file.get(), page.data(), page.size(), static_cast<off_t>(post.frame.offset));
  if (n != static_cast<ssize_t>(page.size()))
    throw system_error("read a scratch file in", run.scratch->folder, n < 0 ? errno : EIO);
  ByteReader in(page);
  std::uint64_t ordinal = in.u64();
  std::optional<Bytes> rows = aead_.open(ordinal, {}, in.raw(in.remaining()));
  if (!rows)
    throw Error(ErrorKind::failed,
                "the scratch file in " + run.scratch->folder + " was changed while in use");
  return std::move(*rows);
}

bool IndexSpool::holds(const ChunkName& name) {
  std::lock_guard lock(mutex_);
  if (recent_.contains(name)) return true;
  return std::any_of(runs_.begin(), runs_.end(), [&](const Run& run) {
    const FencePost* post = find_post(run.fence, name);
    return post != nullptr && find_record(read_page(run, *post), name).has_value();
  });
}

void IndexSpool::merge(const std::function<void(const IndexRecord&)>& next) {
  std::lock_guard lock(mutex_);
  // What never was too much for memory needs no scratch file.
  std::vector<IndexRecord> rows;
  if (runs_.empty()) rows = take_placed();
  spill();
  for (const IndexRecord& record : rows) next(record);
  if (!recent_.empty()) throw Error(ErrorKind::failed, "a chunk was announced but never written");
  struct Cursor {
    const Run* run;
    std::size_t page = 0;
    Bytes rows;
    std::size_t at = 0;
    ByteView row() const { return ByteView(rows).subspan(at, IndexRecord::size); }
  };
  std::vector<Cursor> cursors;
  for (const Run& run : runs_) cursors.push_back({&run, 0, read_page(run, run.fence[0]), 0});
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
      cursor.rows = read_page(*cursor.run, cursor.run->fence[cursor.page]);
      cursor.at = 0;
    }
    heap.push(which);
  }
}

}  // namespace kestrum
