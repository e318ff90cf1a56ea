// The index of a set while the set is being written: records gather in memory, spill in sorted encrypted runs
// to a scratch file where there are many, and are merged when the set is sealed. Bounded memory whatever the
// number of chunks.
#pragma once

#include <functional>
#include <memory>
#include <mutex>
#include <unordered_map>

#include "archive/index_record.hpp"
#include "base/file_handle.hpp"

namespace kestrum {

// `expect` and `holds` are for one thread, `place` for another; `merge` comes when both have ended.
class IndexSpool {
 public:
  // `records_in_memory`: about 120 bytes each; 65,536 make 8 MiB. Where the folder takes nothing, the
  // system's own for temporary files serves.
  explicit IndexSpool(std::string scratch_folder, std::size_t records_in_memory = 65536);

  // The set will hold this chunk; its place comes later.
  void expect(const ChunkName& name);
  // Places of chunks that were expected.
  void place(const std::vector<IndexRecord>& records);
  // By full name, wherever the record is by now.
  bool holds(const ChunkName& name);
  // Every record in order of names. Throws when one was expected and never placed.
  void merge(const std::function<void(const IndexRecord&)>& next);

 private:
  static constexpr std::size_t page_records = 1024;
  struct Scratch;
  struct Run {
    std::vector<FencePost> fence;
    std::shared_ptr<Scratch> scratch;
  };
  struct Scratch {
    FileHandle file;
    std::string folder;
    std::uint64_t size = 0;
  };
  std::vector<IndexRecord> take_placed();
  void spill();
  Run write_run(const std::vector<IndexRecord>& rows);
  void write_page(Run& run, ByteView rows, const ChunkName& first);
  Bytes read_page(const Run& run, const FencePost& post);

  std::string scratch_folder_;
  std::size_t limit_;
  std::mutex mutex_;
  std::unordered_map<ChunkName, IndexRecord, ChunkNameHash> recent_;  // frame.size 0: not placed yet
  std::size_t placed_ = 0;
  std::vector<Run> runs_;
  std::shared_ptr<Scratch> scratch_;
  std::uint64_t ordinal_ = 0;            // of pages, under the one key
  SecretKey key_ = SecretKey::random();  // never leaves this process: the scratch file dies with it
  Aead aead_{key_};
};

}  // namespace kestrum
