#include "archive/set_check.hpp"

#include <algorithm>
#include <deque>
#include <future>

#include "base/bounded_queue.hpp"
#include "base/text.hpp"
#include "base/thread_group.hpp"

namespace kestrum {
namespace {

// A sum over (name, place) of every chunk: equal on both sides when index and frames say the same, whatever
// the order.
struct PlaceSum {
  std::uint64_t count = 0;
  std::uint64_t sum = 0;
  void add(const ChunkName& name, std::uint32_t slot, std::uint64_t frame, std::uint32_t offset,
           std::uint32_t length) {
    std::uint64_t value = ChunkNameHash{}(name);
    for (std::uint64_t part : {std::uint64_t{slot}, frame, std::uint64_t{offset}, std::uint64_t{length}}) {
      value = (value ^ part) * 0x9e3779b97f4a7c15u;
      value ^= value >> 29;
    }
    sum += value;
    ++count;
  }
  bool operator==(const PlaceSum&) const = default;
};

using BadFrames = std::unordered_set<std::uint64_t>;  // by offset

// What one frame turned out to hold.
struct CheckedFrame {
  FramePlace place;
  bool good = false;
  std::string trouble;
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
  void put(const FrameFileReader& file, FramePlace place) {
    auto task = std::make_shared<Task>(Task{&file, place, {}});
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
    std::promise<CheckedFrame> done;
  };

  void work() {
    Bytes memory;  // used again: fresh memory costs a page fault for every 4 KiB
    while (std::optional<std::shared_ptr<Task>> task = tasks_.pop()) {
      CheckedFrame out{
          .place = (*task)->place, .good = false, .trouble = {}, .failure = {}, .marks = {}, .chunks = {}};
      try {
        FrameContent frame = (*task)->file->read(out.place, std::move(memory), out.marks);
        check_names(frame, naming_);
        out.chunks = std::move(frame.chunks);
        memory = std::move(frame.content);
        out.good = true;
      } catch (const Error& error) {
        if (is_of_the_system(error)) out.failure = error;
        out.trouble = error.what();
      } catch (const std::exception& error) {
        out.failure = Error(ErrorKind::failed, std::string("cannot check what was read: ") + error.what());
      }
      (*task)->done.set_value(std::move(out));
    }
  }

  const Naming& naming_;
  std::size_t limit_;
  std::deque<std::future<CheckedFrame>> coming_;
  BoundedQueue<std::shared_ptr<Task>> tasks_{64};
  ThreadGroup threads_;
};

class VolumeCheck {
 public:
  VolumeCheck(SetReader& set, const CheckOptions& options, SetFindings& out, const Naming& naming)
      : set_(set), options_(options), out_(out) {
    if (options.deep) checker_.emplace(naming, options.workers);
  }

  PlaceSum& listed() { return listed_; }
  // True when everything in the file is good. `expected`: where the index says that frames are.
  bool check(const SealedFile& sealed, const std::vector<FramePlace>& expected, BadFrames& bad) {
    FrameFileReader& file = set_.file(sealed.slot);
    if (options_.drop_cache) file.drop_cache();
    std::string name = printable(set_.folder().name + "/" + sealed.name);
    bool good =
        options_.deep ? check_frames(file, sealed, name, expected, bad) : light_digest(file) == sealed.digest;
    if (!good && bad.empty()) out_.findings.push_back(name + " is not as it was sealed");
    return good;
  }

 private:
  bool check_frames(FrameFileReader& file, const SealedFile& sealed, const std::string& name,
                    const std::vector<FramePlace>& expected, BadFrames& bad) {
    DigestStream stream;
    stream.update(file.header_bytes());
    auto known = expected.begin();
    std::uint64_t at = FileHeader::size;
    auto trouble = [&](std::uint64_t offset, const std::string& what) {
      bad.insert(offset);
      out_.findings.push_back(name + " at byte " + std::to_string(offset) + ": " + what);
    };
    auto take = [&] {
      CheckedFrame frame = checker_->take();
      if (frame.failure) throw *frame.failure;
      if (frame.good) {
        count(frame, sealed.slot, stream);
      } else {
        trouble(frame.place.offset, frame.trouble);
      }
      advance(frame.place.size);
    };
    try {
      while (at < file.size()) {
        while (known != expected.end() && known->offset < at) ++known;
        std::optional<FramePlace> place;
        if (known != expected.end() && known->offset == at) {
          place = *known;
        } else {
          // No chunk lies in it: its own head tells how long it is.
          try {
            place = file.head_at(at).first;
          } catch (const Error& error) {
            if (is_of_the_system(error)) throw;
            trouble(at, error.what());
          }
        }
        if (place) checker_->put(file, *place);
        // Where the head cannot be trusted: on at the next place that the index knows.
        std::uint64_t next = place ? at + place->size : known != expected.end() ? known->offset : file.size();
        if (!place) advance(next - at);
        at = next;
        if (checker_->full()) take();
      }
      while (!checker_->empty()) take();
    } catch (...) {
      checker_->drain();
      throw;
    }
    return bad.empty() && stream.finish() == sealed.digest;
  }

  void count(const CheckedFrame& frame, std::uint32_t slot, DigestStream& stream) {
    stream.update(frame.marks.head);
    stream.update(frame.marks.tag);
    std::uint32_t offset = 0;
    for (const ListedChunk& chunk : frame.chunks) {
      listed_.add(chunk.name, slot, frame.place.offset, offset, chunk.length);
      offset += chunk.length;
    }
    ++out_.frames;
  }

  void advance(std::uint64_t bytes) {
    out_.bytes += bytes;
    if (options_.progress) options_.progress(bytes);
  }

  SetReader& set_;
  const CheckOptions& options_;
  SetFindings& out_;
  std::optional<FrameChecker> checker_;
  PlaceSum listed_;
};

// Distinct frames of each slot, in order of their offsets.
using FrameMap = std::map<std::uint32_t, std::vector<FramePlace>>;

FrameMap frames_of(SetReader& set, const std::set<std::uint32_t>& skip, PlaceSum& indexed, SetFindings& out) {
  FrameMap frames;
  try {
    set.each_record([&](const IndexRecord& record) {
      if (skip.contains(record.slot)) return;
      indexed.add(record.name, record.slot, record.frame.offset, record.offset, record.length);
      std::vector<FramePlace>& places = frames[record.slot];
      places.push_back(record.frame);
      if (places.size() % 65536 == 0) {  // many chunks share a frame: keep the list short
        std::sort(places.begin(), places.end(),
                  [](const auto& a, const auto& b) { return a.offset < b.offset; });
        places.erase(std::unique(places.begin(), places.end(),
                                 [](const auto& a, const auto& b) { return a.offset == b.offset; }),
                     places.end());
      }
    });
  } catch (const Error& error) {
    if (is_of_the_system(error)) throw;
    out.index_lost = true;
    out.findings.push_back("the index of " + printable(set.folder().name) +
                           " does not read: " + error.what());
  }
  for (auto& [slot, places] : frames) {
    std::sort(places.begin(), places.end(), [](const auto& a, const auto& b) { return a.offset < b.offset; });
  }
  return frames;
}

}  // namespace

SetFindings check_set(SetReader& set, const CheckOptions& options) {
  SetFindings out;
  Naming naming(set.naming_key());
  PlaceSum indexed;
  FrameMap frames;
  std::set<std::uint32_t> skip;  // slots
  for (const SealedFile& sealed : set.seal().core.files) {
    if (options.own_only && sealed.set != set.facts().set) skip.insert(sealed.slot);
  }
  if (options.deep) frames = frames_of(set, skip, indexed, out);
  VolumeCheck check(set, options, out, naming);
  LostPlaces& lost = out.places;
  for (const SealedFile& sealed : set.seal().core.files) {
    if (skip.contains(sealed.slot)) continue;
    BadFrames bad;
    bool good = false;
    try {
      good = check.check(sealed, frames[sealed.slot], bad);
    } catch (const Error& error) {
      if (is_of_the_system(error)) throw;
      out.findings.emplace_back(error.what());
      bad.clear();
    }
    if (good) continue;
    // Of the index, parts may still read, but what a look-up needs is not sure to.
    if (bad.empty() || sealed.slot == 0) {
      lost.slots.insert(sealed.slot);
    } else {
      lost.frames[sealed.slot].insert(bad.begin(), bad.end());
    }
  }
  if (lost.empty() && !out.index_lost && options.deep && !(check.listed() == indexed)) {
    out.findings.push_back("the index of " + printable(set.folder().name) +
                           " does not say what its volumes hold");
    out.index_lost = true;
  }
  if (out.index_lost) lost.slots.insert(0);
  out.index_lost = lost.slots.contains(0);
  if (!lost.empty() && !out.index_lost) {
    set.each_record([&](const IndexRecord& record) {
      if (lost.covers(record.slot, record.frame.offset)) out.lost.insert(record.name);
    });
  }
  return out;
}

}  // namespace kestrum
