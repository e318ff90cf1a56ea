#include "archive/set_check.hpp"

#include <algorithm>
#include <cerrno>
#include <deque>
#include <future>

#include "base/bounded_queue.hpp"
#include "base/text.hpp"
#include "base/thread_group.hpp"

namespace kestrum {
namespace {

// A sum over every chunk of a frame: equal on both sides when index and frame say the same, whatever the
// order.
struct ChunkSum {
  std::uint64_t count = 0;
  std::uint64_t sum = 0;
  void add(const ChunkName& name, std::uint32_t offset, std::uint32_t length) {
    std::uint64_t value = ChunkNameHash{}(name);
    for (std::uint64_t part : {std::uint64_t{offset}, std::uint64_t{length}}) {
      value = (value ^ part) * 0x9e3779b97f4a7c15u;
      value ^= value >> 29;
    }
    sum += value;
    ++count;
  }
  void add(const ChunkSum& other) {
    sum += other.sum;
    count += other.count;
  }
  bool operator==(const ChunkSum&) const = default;
};

// A frame as the index knows it.
struct IndexedFrame {
  FramePlace place;
  ChunkSum chunks;
};

// What the drive does not read, twice, while it reads the beginning of the same file, is damage there. Other
// troubles of the system are thrown as they are: they say nothing of what lies on the drive.
template <typename Read>
auto read_twice(const FrameFileReader& file, Read&& read) {
  try {
    return read();
  } catch (const Error& error) {
    if (error.system_code() != EIO) throw;
  }
  try {
    return read();
  } catch (const Error& error) {
    if (error.system_code() != EIO || !file.reads()) throw;
    throw damage("the drive does not read it: " + system_reason(EIO)).with_code(EIO);
  }
}

// What one frame turned out to hold.
struct CheckedFrame {
  FramePlace place;
  bool good = false;
  std::optional<Error> trouble;  // damage
  std::optional<Error> failure;  // of the system: nothing is known of the frame
  FrameFileReader::Marks marks;
  std::vector<ListedChunk> chunks;
};

// Reads and checks frames on threads of its own; gives them back in the order in which they were put in.
class FrameChecker {
 public:
  FrameChecker(const Naming& naming, unsigned workers) : naming_(naming), limit_(2 * std::max(1u, workers)) {
    try {
      for (unsigned i = 0; i < std::max(1u, workers); ++i) threads_.start([this] { work(); });
    } catch (const Error&) {
      if (threads_.size() == 0) throw;  // with fewer it only takes longer
    }
  }
  ~FrameChecker() {
    tasks_.close();
    threads_.join();
  }

  bool full() const { return coming_.size() >= limit_; }
  bool empty() const { return coming_.empty(); }
  // `content`: not only what is listed in it.
  void put(const FrameFileReader& file, FramePlace place, bool content) {
    auto task = std::make_shared<Task>(Task{&file, place, content, {}});
    coming_.push_back(task->done.get_future());
    tasks_.push(std::move(task));
  }
  CheckedFrame take() {
    CheckedFrame frame = coming_.front().get();
    coming_.pop_front();
    return frame;
  }
  // What was put in and is not wanted any more.
  void drain() {
    while (!coming_.empty()) take();
  }

 private:
  struct Task {
    const FrameFileReader* file;
    FramePlace place;
    bool content;
    std::promise<CheckedFrame> done;
  };

  void work() {
    // Used again: fresh memory costs a page fault for every 4 KiB, and one that has shrunk is filled with
    // zeros.
    Bytes small, large;
    while (std::optional<std::shared_ptr<Task>> task = tasks_.pop()) {
      CheckedFrame out{
          .place = (*task)->place, .good = false, .trouble = {}, .failure = {}, .marks = {}, .chunks = {}};
      try {
        constexpr std::uint32_t large_from = 1u << 20;
        Bytes& memory = (*task)->place.size < large_from ? small : large;
        read_twice(*(*task)->file, [&] { check(**task, memory, out); });
        out.good = true;
      } catch (const Error& error) {
        (is_of_the_system(error) ? out.failure : out.trouble) = error;
      } catch (const std::exception& error) {
        out.failure = Error(ErrorKind::failed, std::string("cannot check what was read: ") + error.what());
      }
      (*task)->done.set_value(std::move(out));
    }
  }

  void check(const Task& task, Bytes& memory, CheckedFrame& out) const {
    if (!task.content) {
      PackedFrame frame = task.file->read_packed(task.place, std::move(memory), out.marks);
      out.chunks = std::move(frame.chunks);
      memory = std::move(frame.box);
      return;
    }
    FrameContent frame = task.file->read(task.place, std::move(memory), out.marks);
    check_names(frame, naming_);
    out.chunks = std::move(frame.chunks);
    memory = std::move(frame.content);
  }

  const Naming& naming_;
  std::size_t limit_;
  std::deque<std::future<CheckedFrame>> coming_;
  BoundedQueue<std::shared_ptr<Task>> tasks_{64};
  ThreadGroup threads_;
};

bool before(const IndexedFrame& a, const IndexedFrame& b) {
  return a.place.offset < b.place.offset;
}

// Sorted by offset, what the index says of the same frame put together.
void put_together(std::vector<IndexedFrame>& frames) {
  std::sort(frames.begin(), frames.end(), before);
  std::size_t kept = 0;
  for (const IndexedFrame& frame : frames) {
    if (kept > 0 && frames[kept - 1].place.offset == frame.place.offset) {
      frames[kept - 1].chunks.add(frame.chunks);
    } else {
      frames[kept++] = frame;
    }
  }
  frames.resize(kept);
}

}  // namespace

class SetCheck::Work {
 public:
  Work(SetReader& set, const CheckOptions& options, std::uint64_t stretch) : set_(set), options_(options) {
    for (const SealedFile& sealed : set.seal().core.files) {
      if (!options.own_only || sealed.set == set.facts().set) files_[sealed.slot].sealed = &sealed;
    }
    if (options.frames != FrameCheck::marks) read_index();
    for (const auto& [slot, file] : files_) divide(slot, file, stretch);
    for (const SealedParity& parity : set.seal().parity) {
      if (files_.contains(parity.file.slot))
        stretches_.push_back({parity.file.slot | parity_slot, 0, parity.file.size});
    }
    if (options.frames == FrameCheck::marks) return;
    naming_.emplace(set.naming_key());
    checker_.emplace(*naming_, options.workers);
  }

  const std::vector<Stretch>& stretches() const { return stretches_; }

  bool check(const Stretch& stretch) {
    if ((stretch.slot & parity_slot) != 0) return check_parity(stretch.slot & ~parity_slot);
    File& file = files_.at(stretch.slot);
    try {
      FrameFileReader& reader = set_.file(stretch.slot);
      if (options_.drop_cache && !std::exchange(file.dropped, true)) reader.drop_cache();
      const std::size_t found = out_.findings.size();
      if (options_.frames == FrameCheck::marks) {
        check_digest(stretch.slot, light_digest(reader));
      } else {
        check_frames(reader, file, stretch);
      }
      return out_.findings.size() == found;
    } catch (const Error& error) {
      if (is_of_the_system(error)) throw;
      out_.findings.emplace_back(error.what());
      out_.places.slots.insert(stretch.slot);
      return false;
    }
  }

  SetFindings finish() {
    LostPlaces& lost = out_.places;
    if (lost.empty() && !out_.index_lost && index_differs_) {
      out_.findings.push_back("the index of " + printable(set_.folder().name) +
                              " does not say what its volumes hold");
      out_.index_lost = true;
    }
    if (out_.index_lost) lost.slots.insert(0);
    out_.index_lost = lost.slots.contains(0);
    return std::move(out_);
  }

 private:
  struct File {
    const SealedFile* sealed = nullptr;
    std::vector<IndexedFrame> frames;  // by offset
    bool dropped = false;              // from the system's memory
    // What the seal's digest is made of, as long as everything was read in order.
    DigestStream digest;
    std::uint64_t digested = 0;
  };

  void read_index() {
    try {
      read_twice(set_.file(0), [this] {
        for (auto& [slot, file] : files_) file.frames.clear();
        set_.each_record([this](const IndexRecord& record) { take_record(record); });
      });
    } catch (const Error& error) {
      if (is_of_the_system(error)) throw;
      out_.index_lost = true;
      out_.unread = out_.unread || error.system_code() == EIO;
      out_.findings.push_back("the index of " + printable(set_.folder().name) +
                              " does not read: " + error.what());
    }
    for (auto& [slot, file] : files_) put_together(file.frames);
  }

  void take_record(const IndexRecord& record) {
    const auto file = files_.find(record.slot);
    if (file == files_.end()) return;
    std::vector<IndexedFrame>& frames = file->second.frames;
    IndexedFrame frame{record.frame, {}};
    frame.chunks.add(record.name, record.offset, record.length);
    frames.push_back(frame);
    if (frames.size() % 65536 == 0) put_together(frames);  // many chunks share a frame
  }

  void divide(std::uint32_t slot, const File& file, std::uint64_t most) {
    std::uint64_t from = FileHeader::size;
    if (!out_.index_lost) {
      for (const IndexedFrame& frame : file.frames) {
        if (frame.place.offset < from + most || frame.place.offset >= file.sealed->size) continue;
        stretches_.push_back({slot, from, frame.place.offset});
        from = frame.place.offset;
      }
    }
    stretches_.push_back({slot, from, file.sealed->size});
  }

  std::string name_of(std::uint32_t slot) const {
    return printable(set_.folder().name + "/" + files_.at(slot).sealed->name);
  }

  void trouble(std::uint32_t slot, std::uint64_t offset, const Error& error) {
    out_.unread = out_.unread || error.system_code() == EIO;
    // Of the index, parts may still read, but what a look-up needs is not sure to.
    if (slot == 0) {
      out_.places.slots.insert(slot);
    } else {
      out_.places.frames[slot].insert(offset);
    }
    out_.findings.push_back(name_of(slot) + " at byte " + std::to_string(offset) + ": " + error.what());
  }

  // It is worth telling, and loses nothing.
  bool check_parity(std::uint32_t slot) {
    const std::size_t found = out_.parity.size();
    for (const SealedParity& parity : set_.seal().parity) {
      if (parity.file.slot != slot) continue;
      try {
        const std::string path = set_.parity_path(parity);
        if (options_.frames == FrameCheck::marks) {
          const std::uint64_t size = set_.store().open(path)->size();
          if (size != parity.file.size)
            out_.parity.push_back(set_.store().describe(path) + " has another size than it had");
          continue;
        }
        const ParityReader reader(set_.store(), path, set_.seal().core.job, *set_.sealed_file(slot), parity);
        for (std::string& finding : reader.check([this](std::uint64_t bytes) { advance(bytes); }))
          out_.parity.push_back(std::move(finding));
      } catch (const Error& error) {
        if (is_of_the_system(error)) throw;
        out_.parity.emplace_back(error.what());
      }
    }
    return out_.parity.size() == found;
  }

  // Nothing of a file can be told good whose frames read and whose digest does not agree.
  void check_digest(std::uint32_t slot, const Digest& found) {
    if (found == files_.at(slot).sealed->digest) return;
    out_.places.slots.insert(slot);
    out_.findings.push_back(name_of(slot) + " is not as it was sealed");
  }

  bool reads_content(std::uint32_t slot, std::uint64_t offset) const {
    if (options_.frames == FrameCheck::content) return true;
    if (options_.content_one_in == 0) return false;
    std::uint64_t value = (options_.chance ^ slot) * 0x9e3779b97f4a7c15u;
    value = (value ^ (value >> 32) ^ offset) * 0xbf58476d1ce4e5b9u;
    return (value >> 32) % options_.content_one_in == 0;
  }

  void check_frames(FrameFileReader& reader, File& file, const Stretch& stretch) {
    const std::uint32_t slot = stretch.slot;
    if (stretch.from == FileHeader::size) {
      file.digest.update(reader.header_bytes());
      file.digested = FileHeader::size;
    }
    auto known =
        std::lower_bound(file.frames.begin(), file.frames.end(), IndexedFrame{{stretch.from, 0}, {}}, before);
    auto listed = known;  // of the frames that come back
    std::uint64_t at = stretch.from;
    const auto end = [&](auto one) { return one == file.frames.end() || one->place.offset >= stretch.to; };
    auto take = [&] {
      CheckedFrame frame = checker_->take();
      if (frame.failure) throw *frame.failure;
      if (frame.good) {
        count(frame, file, listed);
      } else {
        trouble(slot, frame.place.offset, *frame.trouble);
      }
      advance(frame.place.size);
    };
    try {
      while (at < stretch.to) {
        while (!end(known) && known->place.offset < at) {
          index_differs_ = true;  // it names a place where no frame begins
          ++known;
        }
        std::optional<FramePlace> place;
        if (!end(known) && known->place.offset == at) {
          place = (known++)->place;
        } else {
          // No chunk lies in it: its own head tells how long it is.
          try {
            place = read_twice(reader, [&] { return reader.head_at(at).first; });
          } catch (const Error& error) {
            if (is_of_the_system(error)) throw;
            trouble(slot, at, error);
          }
        }
        if (place) checker_->put(reader, *place, reads_content(slot, at));
        // Where the head cannot be trusted: on at the next place that the index knows.
        std::uint64_t next = place ? at + place->size : !end(known) ? known->place.offset : stretch.to;
        if (!place) advance(next - at);
        at = next;
        if (checker_->full()) take();
      }
      while (!checker_->empty()) take();
    } catch (...) {
      checker_->drain();
      throw;
    }
    const bool broken = out_.places.slots.contains(slot) || out_.places.frames.contains(slot);
    if (file.digested == file.sealed->size && !broken) check_digest(slot, file.digest.finish());
  }

  void count(const CheckedFrame& frame, File& file, std::vector<IndexedFrame>::iterator& listed) {
    const FramePlace& place = frame.place;
    if (file.digested == place.offset) {
      file.digest.update(frame.marks.head);
      file.digest.update(frame.marks.tag);
      file.digested += place.size;
    }
    ChunkSum chunks;
    std::uint32_t offset = 0;
    for (const ListedChunk& chunk : frame.chunks) {
      chunks.add(chunk.name, offset, chunk.length);
      offset += chunk.length;
    }
    while (listed != file.frames.end() && listed->place.offset < place.offset) ++listed;
    const bool known = listed != file.frames.end() && listed->place.offset == place.offset;
    if (!(chunks == (known ? listed->chunks : ChunkSum{}))) index_differs_ = true;
    ++out_.frames;
  }

  void advance(std::uint64_t bytes) {
    out_.bytes += bytes;
    if (options_.progress) options_.progress(bytes);
  }

  SetReader& set_;
  const CheckOptions& options_;
  std::map<std::uint32_t, File> files_;  // by slot
  std::vector<Stretch> stretches_;
  bool index_differs_ = false;
  SetFindings out_;
  std::optional<Naming> naming_;
  std::optional<FrameChecker> checker_;
};

SetCheck::SetCheck(SetReader& set, const CheckOptions& options, std::uint64_t stretch)
    : work_(std::make_unique<Work>(set, options, stretch)) {}
SetCheck::~SetCheck() = default;

const std::vector<Stretch>& SetCheck::stretches() const {
  return work_->stretches();
}
bool SetCheck::check(const Stretch& stretch) {
  return work_->check(stretch);
}
SetFindings SetCheck::finish() {
  return work_->finish();
}

SetFindings check_set(SetReader& set, const CheckOptions& options) {
  SetCheck check(set, options);
  for (const Stretch& stretch : check.stretches()) check.check(stretch);
  return check.finish();
}

}  // namespace kestrum
