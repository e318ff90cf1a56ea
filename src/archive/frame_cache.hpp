// Frames read lately, by the chunks they hold; and frames read ahead on other threads, while somebody goes
// through a set in order.
#pragma once

#include <future>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <unordered_map>

#include "archive/chunk_store.hpp"
#include "archive/set_reader.hpp"
#include "base/bounded_queue.hpp"
#include "base/buffer_pool.hpp"
#include "base/thread_group.hpp"

namespace kestrum {

struct LoadedFrame {
  FrameContent frame;
  bool names_checked = false;  // every chunk has the name it is listed under
  std::vector<bool> passes;    // what the sieve says of each chunk; empty: it was not asked
};

// A chunk's content, kept alive.
struct ChunkView {
  std::shared_ptr<const LoadedFrame> frame;
  ByteView content;
  std::optional<bool> passes;  // as far as it was sifted already
};

// How much was read, decrypted, decompressed and checked, and what it took.
struct UnpackWork {
  std::uint64_t bytes = 0;       // of content, all of the frames
  double seconds = 0;            // on whatever thread, one after the other
  double processor_seconds = 0;  // of these; the rest is the drive's
  double waited_seconds = 0;     // that whoever asked for a frame waited for it
  UnpackWork operator-(const UnpackWork& before) const {
    return {bytes - before.bytes, seconds - before.seconds, processor_seconds - before.processor_seconds,
            waited_seconds - before.waited_seconds};
  }
};

// For one thread; its own threads only read, decrypt, decompress and check frames.
class FrameCache {
 public:
  explicit FrameCache(const Naming& naming) : naming_(naming) {}
  ~FrameCache();
  FrameCache(const FrameCache&) = delete;
  FrameCache& operator=(const FrameCache&) = delete;

  // Before anything is read.
  void sift(Sieve sieve) { sieve_ = std::move(sieve); }
  const Sieve& sieve() const { return sieve_; }
  // From the frames at hand, whatever set they are of; nothing when none holds it. Throws damage when its
  // length or its content is wrong.
  std::optional<ChunkView> find(const ChunkRef& ref);
  // The frame will be read soon: it is got ready meanwhile.
  void expect(SetReader& reader, const IndexRecord& record);
  // From the frame where an index says it lies. Throws damage.
  ChunkView read(SetReader& reader, const IndexRecord& record, const ChunkRef& ref);
  // So far.
  UnpackWork unpacked() const;

 private:
  static constexpr std::size_t limit = 24u << 20;  // bytes of content kept
  static constexpr std::size_t depth = 4;          // frames read ahead
  struct Key {
    SetReader* reader;
    std::uint32_t slot;
    std::uint64_t offset;
    auto operator<=>(const Key&) const = default;
  };
  struct Kept {
    Key key;
    std::shared_ptr<const LoadedFrame> loaded;
  };
  struct Where {
    std::list<Kept>::iterator frame;
    std::uint32_t offset;
    std::uint32_t length;
    std::size_t number;    // in the frame
    bool checked = false;  // it has its name: whoever reads a file in small pieces comes often
  };
  using Future = std::future<std::shared_ptr<const LoadedFrame>>;
  // How far somebody has come in the content frames of one set.
  struct Stream {
    std::uint32_t slot = 0;
    std::uint64_t next = 0;   // offset of the content frame that would come next
    std::uint64_t ahead = 0;  // from here on nothing was asked for ahead
    unsigned in_order = 0;
  };
  struct Task {
    FrameFileReader* file;
    FramePlace place;
    std::promise<std::shared_ptr<const LoadedFrame>> done;
  };

  ChunkView cut_out(Where& where, const ChunkRef& ref);
  std::list<Kept>::iterator keep(const Key& key, std::shared_ptr<const LoadedFrame> loaded);
  void read_ahead(SetReader& reader, std::uint32_t slot, FramePlace place);
  void start(const Key& key, FrameFileReader& file, FramePlace place);
  void start_threads();
  void work();
  std::shared_ptr<LoadedFrame> load(const FrameFileReader& file, FramePlace place) const;
  std::shared_ptr<const LoadedFrame> wait_for(const Key& key, SetReader& reader, const IndexRecord& record);

  void sift(LoadedFrame& loaded) const;
  const Naming& naming_;
  Sieve sieve_;
  std::shared_ptr<BufferPool> buffers_ = std::make_shared<BufferPool>(8);
  std::list<Kept> kept_;  // used last comes first
  std::map<Key, std::list<Kept>::iterator> by_place_;
  std::unordered_map<ChunkName, Where, ChunkNameHash> by_name_;
  std::size_t bytes_ = 0;
  std::map<SetReader*, Stream> streams_;
  std::map<Key, Future> coming_;
  BoundedQueue<std::shared_ptr<Task>> tasks_{64};
  ThreadGroup threads_;
  mutable std::mutex counting_;
  mutable UnpackWork unpacked_;  // behind the mutex
  bool no_threads_ = false;      // the system gives none: nothing is read ahead
};

}  // namespace kestrum
