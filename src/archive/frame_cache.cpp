#include "archive/frame_cache.hpp"

#include <algorithm>

#include "archive/read_ahead.hpp"
#include "base/clock_seconds.hpp"
#include "base/error.hpp"

namespace kestrum {

FrameCache::~FrameCache() {
  tasks_.close();
  threads_.join();
}

// Its memory goes back to the pool when nobody needs it any more.
std::shared_ptr<LoadedFrame> FrameCache::load(const FrameFileReader& file, FramePlace place) const {
  auto pool = buffers_;
  std::shared_ptr<LoadedFrame> loaded(new LoadedFrame, [pool](LoadedFrame* frame) {
    pool->give(std::move(frame->frame.content));
    delete frame;
  });
  const double begun = clock_seconds(CLOCK_MONOTONIC), used = clock_seconds(CLOCK_THREAD_CPUTIME_ID);
  loaded->frame = file.read(place, pool->take());
  const std::lock_guard<std::mutex> lock(counting_);
  unpacked_.bytes += loaded->frame.content.size();
  unpacked_.seconds += clock_seconds(CLOCK_MONOTONIC) - begun;
  unpacked_.processor_seconds += clock_seconds(CLOCK_THREAD_CPUTIME_ID) - used;
  return loaded;
}

UnpackWork FrameCache::unpacked() const {
  const std::lock_guard<std::mutex> lock(counting_);
  return unpacked_;
}

// Read ahead already, or now.
std::shared_ptr<const LoadedFrame> FrameCache::wait_for(const Key& key, SetReader& reader,
                                                        const IndexRecord& record) {
  const double begun = clock_seconds(CLOCK_MONOTONIC);
  std::shared_ptr<const LoadedFrame> loaded;
  if (const auto coming = coming_.find(key); coming != coming_.end()) {
    Future future = std::move(coming->second);
    coming_.erase(coming);
    loaded = future.get();
  } else {
    loaded = load(reader.file(record.slot), record.frame);
  }
  const std::lock_guard<std::mutex> lock(counting_);
  unpacked_.waited_seconds += clock_seconds(CLOCK_MONOTONIC) - begun;
  return loaded;
}

ChunkView FrameCache::cut_out(Where& where, const ChunkRef& ref) {
  if (where.length != ref.length) throw damage("a chunk is not where the index says");
  const std::shared_ptr<const LoadedFrame>& loaded = where.frame->loaded;
  ChunkView view{loaded, ByteView(loaded->frame.content).subspan(where.offset, where.length), std::nullopt};
  if (!loaded->passes.empty()) view.passes = loaded->passes[where.number];
  if (!loaded->names_checked && !where.checked && naming_.name(view.content) != ref.name)
    throw damage("a chunk's content does not have its name");
  where.checked = true;
  return view;
}

std::optional<ChunkView> FrameCache::find(const ChunkRef& ref) {
  auto where = by_name_.find(ref.name);
  if (where == by_name_.end()) return std::nullopt;
  kept_.splice(kept_.begin(), kept_, where->second.frame);
  return cut_out(where->second, ref);
}

ChunkView FrameCache::read(SetReader& reader, const IndexRecord& record, const ChunkRef& ref) {
  Key key{&reader, record.slot, record.frame.offset};
  auto at = by_place_.find(key);
  std::list<Kept>::iterator frame;
  if (at != by_place_.end()) {
    frame = at->second;
    kept_.splice(kept_.begin(), kept_, frame);
  } else {
    std::shared_ptr<const LoadedFrame> loaded = wait_for(key, reader, record);
    const bool is_content = loaded->frame.kind == FrameKind::content;
    frame = keep(key, std::move(loaded));
    if (is_content) read_ahead(reader, record.slot, record.frame);
  }
  // By place, not by name: the index may be wrong about this frame while another holds the chunk.
  std::uint32_t offset = 0;
  std::size_t number = 0;
  for (const ListedChunk& chunk : frame->loaded->frame.chunks) {
    if (chunk.name != ref.name) {
      offset += chunk.length;
      ++number;
      continue;
    }
    Where here{frame, offset, chunk.length, number};
    const ChunkView view = cut_out(here, ref);
    auto known = by_name_.find(ref.name);
    if (known != by_name_.end() && known->second.frame == frame && known->second.offset == offset)
      known->second.checked = true;
    return view;
  }
  throw damage("a chunk is not where the index says");
}

void FrameCache::expect(SetReader& reader, const IndexRecord& record) {
  start({&reader, record.slot, record.frame.offset}, reader.file(record.slot), record.frame);
}

std::list<FrameCache::Kept>::iterator FrameCache::keep(const Key& key,
                                                       std::shared_ptr<const LoadedFrame> loaded) {
  kept_.push_front({key, std::move(loaded)});
  auto frame = kept_.begin();
  by_place_[key] = frame;
  std::uint32_t offset = 0;
  std::size_t number = 0;
  for (const ListedChunk& chunk : frame->loaded->frame.chunks) {
    by_name_.insert_or_assign(chunk.name, Where{frame, offset, chunk.length, number++});
    offset += chunk.length;
  }
  bytes_ += frame->loaded->frame.content.size();
  while (bytes_ > limit && kept_.size() > 1) {
    auto last = std::prev(kept_.end());
    for (const ListedChunk& chunk : last->loaded->frame.chunks) {
      auto where = by_name_.find(chunk.name);
      if (where != by_name_.end() && where->second.frame == last) by_name_.erase(where);
    }
    by_place_.erase(last->key);
    bytes_ -= last->loaded->frame.content.size();
    kept_.pop_back();
  }
  return frame;
}

// Two frames in a row tell that the set is gone through in order.
void FrameCache::read_ahead(SetReader& reader, std::uint32_t slot, FramePlace place) {
  FrameFileReader& file = reader.file(slot);
  Stream& stream = streams_[&reader];
  stream.in_order = stream.slot == slot && stream.next == place.offset ? stream.in_order + 1 : 0;
  bool goes_on = stream.slot == slot && stream.ahead > place.offset;
  stream.slot = slot;
  stream.next = 0;
  std::uint64_t at = place.offset + place.size;
  std::size_t found = 0;
  try {
    while (at < file.size() && found < (stream.in_order > 0 ? depth : 1)) {
      auto [next, head] = file.head_at(at);
      bool is_content = FrameHead::decode(head).kind == FrameKind::content;
      if (is_content && found++ == 0) stream.next = at;
      if (is_content && stream.in_order > 0 && (!goes_on || at >= stream.ahead)) {
        start({&reader, slot, at}, file, next);
        stream.ahead = at + next.size;
        goes_on = true;
      }
      at += next.size;
    }
  } catch (const Error&) {
    // Whoever needs what comes here will be told.
  }
}

void FrameCache::start(const Key& key, FrameFileReader& file, FramePlace place) {
  if (by_place_.contains(key) || coming_.contains(key)) return;
  // Many catalogs that are gone through side by side each expect a frame or two, and those are small.
  constexpr std::uint64_t small = 512u << 10;
  const std::size_t most = place.size <= small ? 64 * depth : 2 * depth;
  if (coming_.size() >= most) {
    // What was read ahead on a track that was left is given up.
    std::erase_if(coming_,
                  [&](auto& one) { return one.first.reader != key.reader || one.first.slot != key.slot; });
    if (coming_.size() >= most) coming_.clear();
  }
  if (threads_.size() == 0 && !no_threads_) start_threads();
  if (no_threads_) return;
  auto task = std::make_shared<Task>();
  task->file = &file;
  task->place = place;
  coming_[key] = task->done.get_future();
  tasks_.push(std::move(task));
}

void FrameCache::start_threads() {
  try {
    for (unsigned i = 0; i < read_ahead_threads(); ++i) threads_.start([this] { work(); });
  } catch (const Error&) {
    no_threads_ = threads_.size() == 0;
  }
}

void FrameCache::sift(LoadedFrame& loaded) const {
  if (!sieve_ || loaded.frame.kind != FrameKind::catalog) return;
  std::size_t offset = 0;
  for (const ListedChunk& chunk : loaded.frame.chunks) {
    loaded.passes.push_back(sieve_(ByteView(loaded.frame.content).subspan(offset, chunk.length)));
    offset += chunk.length;
  }
}

void FrameCache::work() {
  while (std::optional<std::shared_ptr<Task>> task = tasks_.pop()) {
    try {
      std::shared_ptr<LoadedFrame> loaded = load(*(*task)->file, (*task)->place);
      try {
        check_names(loaded->frame, naming_);
        loaded->names_checked = true;
        sift(*loaded);
      } catch (const Error&) {
        // Each chunk is checked when it is asked for.
      }
      (*task)->done.set_value(std::move(loaded));
    } catch (...) {
      (*task)->done.set_exception(std::current_exception());
    }
  }
}

}  // namespace kestrum
