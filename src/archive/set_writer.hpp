// Writes the data of one archive set: names, deduplicates, gathers, compresses, encrypts and writes chunks,
// and keeps the index. Sealing is a step of its own (see seal_set).
#pragma once

#include <condition_variable>
#include <deque>
#include <future>

#include "archive/chunk_store.hpp"
#include "archive/index_writer.hpp"
#include "archive/name_table.hpp"
#include "archive/parity.hpp"
#include "archive/seal.hpp"
#include "base/bounded_queue.hpp"
#include "base/buffer_pool.hpp"
#include "base/thread_group.hpp"

namespace kestrum {

// Chunks of earlier sets that a new set may refer to.
class KnownChunks {
 public:
  virtual ~KnownChunks() = default;
  // The set that holds it, confirmed by its full name, and readable as far as is known.
  virtual std::optional<Sequence> find(const ChunkName& name) = 0;
};

struct SetIdentity {
  Id job{};
  Id set{};
  Sequence sequence = 0;
  std::string folder;  // in the store
};

struct SetWriterOptions {
  int level = 3;                          // zstd, 1 to 19
  std::uint64_t volume_bytes = 1u << 30;  // a volume is never larger, unless one frame is
  std::size_t frame_bytes = 4u << 20;     // of content, unless one chunk is larger
  unsigned workers = 2;                   // compressing threads
  std::string scratch_folder = "/tmp";
  std::uint32_t volumes_before = 0;  // numbers that files taken over from other sets have
  unsigned parity_percent = 0;       // of each file, up to 50; 0: none
};

// One thread calls; compression and writing run on threads of their own. The first error of those reaches the
// caller at the next call. Destroyed without `finish`, it ends its threads and leaves the files as they are.
class SetWriter final : public ChunkSink {
 public:
  static constexpr std::size_t frame_bytes = 4u << 20;
  static constexpr std::size_t catalog_frame_bytes = 256u << 10;
  static constexpr std::size_t index_page_records = 292;  // 16 KiB

  // All references must outlive this.
  SetWriter(Store& store, const SetIdentity& identity, const SecretKey& master, const Naming& naming,
            KnownChunks& known, const SetWriterOptions& options);
  ~SetWriter() override;

  // Keeps the content unless it is held already. The reference names the set that holds it.
  ChunkRef put(FrameKind kind, ByteView content) override;
  // A frame of another set of the chain as it is, under this set's key. Its chunks must not be held yet.
  void copy(PackedFrame frame);
  // Chunks that lie in files taken over, with the slots that those have in this set.
  void hold(const std::vector<IndexRecord>& records);
  // Before the first `put`: volumes of this set that an earlier run has written and this one goes on from;
  // their chunks come by `hold`. `content_bytes`: of those. Their parity is made by reading them, with
  // `progress` told and asked whether to go on.
  void take_over(std::vector<SealedFile> volumes, std::uint64_t content_bytes,
                 const std::function<void(std::uint64_t)>& progress = {});
  // Of a run that goes on later where this one may be broken off: behind all that was put so far.
  void journal(Bytes content);
  bool holds(const ChunkName& name) { return own_.find(name) && spool_.holds(name); }
  // Content of the chunks put.
  std::uint64_t new_bytes() const { return new_bytes_; }
  // How far content has shrunk in what is written so far.
  struct Shrunk {
    std::uint64_t content_bytes = 0, stored_bytes = 0;
  };
  Shrunk shrunk() const { return {written_content_, written_bytes_}; }

  struct Finished {
    std::vector<SealedFile> files;
    std::vector<SealedParity> parity;
    Root root;
    std::uint64_t stored_bytes = 0;  // parity among it
  };
  // Writes what is gathered, the index and the closing frame, and flushes every file. `root` comes without
  // its fence.
  Finished finish(Root root);

 private:
  struct Job {
    FrameContent draft;
    std::promise<PackedFrame> packed;
  };
  void gather(FrameKind kind, const ChunkName& name, ByteView content);
  void submit(FrameContent& gathered);
  void pack(FrameContent draft);
  void compress_jobs();
  void write_frames();
  void write_frame(const PackedFrame& frame);
  void finish_volume();
  void make_parity_of(const SealedFile& file, const std::function<void(std::uint64_t)>& progress = {});
  void close_queues();
  void check_failure();

  Store& store_;
  SetIdentity identity_;
  SecretKey master_;
  const Naming& naming_;
  KnownChunks& known_;
  SetWriterOptions options_;

  NameTable own_;
  IndexSpool spool_;
  FrameContent content_{.kind = FrameKind::content, .chunks = {}, .content = {}};
  FrameContent catalog_{.kind = FrameKind::catalog, .chunks = {}, .content = {}};
  FrameContent record_{.kind = FrameKind::record, .chunks = {}, .content = {}};
  std::uint64_t new_bytes_ = 0;
  std::atomic<std::uint64_t> written_content_ = 0, written_bytes_ = 0;  // of content frames

  BufferPool buffers_{8};
  BoundedQueue<std::shared_ptr<Job>> to_compress_;
  BoundedQueue<std::future<PackedFrame>> to_write_;
  ThreadGroup workers_;
  ThreadGroup writer_;
  std::mutex failure_mutex_;
  std::exception_ptr failure_;

  // The writer thread's, until it has ended.
  std::unique_ptr<FrameFileWriter> volume_;
  std::optional<GrowingParity> growing_parity_;  // of that volume
  std::uint32_t volume_number_ = 0;
  std::vector<SealedFile> files_;
  std::vector<SealedParity> parity_;
};

// Puts seal and copy into the set's folder, in the order of docs/FORMAT.md section 2, and takes the
// unfinished mark off its name. Returns the folder's name in the end.
std::string seal_set(Store& store, const SetIdentity& identity, const Seal& seal, const SecretKey& master);

}  // namespace kestrum
