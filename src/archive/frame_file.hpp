// A volume or an index as a row of encrypted frames: writing one, reading one.
#pragma once

#include <functional>
#include <memory>

#include "archive/frame.hpp"
#include "store/store.hpp"

namespace kestrum {

// What a seal says of a file: docs/FORMAT.md, core member `files`.
struct SealedFile {
  std::uint32_t slot = 0;
  std::string name;
  Id set{};
  std::uint32_t number = 0;
  std::uint64_t size = 0;
  Digest digest{};
};

struct FramePlace {
  std::uint64_t offset = 0;
  std::uint32_t size = 0;
};

// Creates the file and its header. Not for two threads.
class FrameFileWriter {
 public:
  // `passed`: told of every byte, in order.
  FrameFileWriter(Store& store, const std::string& path, const SecretKey& master, const FileHeader& header,
                  std::function<void(ByteView)> passed = {});
  FramePlace append(const PackedFrame& frame);
  std::uint64_t size() const { return size_; }
  // Flushed and closed. The result's slot and name are the caller's to set.
  SealedFile finish();

 private:
  void put(ByteView bytes);
  std::unique_ptr<StoreWriter> file_;
  std::function<void(ByteView)> passed_;
  FileHeader header_;
  FrameCipher cipher_;
  DigestStream digest_;
  Bytes encrypted_;  // memory used again
  std::uint64_t size_ = 0;
  std::uint32_t ordinal_ = 0;
};

// Opens a file and checks its header against what the seal says. Frames may be read from several threads.
class FrameFileReader {
 public:
  // Throws Error of kind damage when the file is missing, has another size, or another identity.
  FrameFileReader(const Store& store, const std::string& path, const SecretKey& master, const Id& job,
                  const SealedFile& expected);
  // `memory` is used for the content. One read of the file.
  FrameContent read(FramePlace place, Bytes memory = {}) const;
  // The same, and the head and the tag as they lie in the file, also when it does not read.
  struct Marks {
    std::array<std::uint8_t, FrameHead::size> head{};
    std::array<std::uint8_t, Aead::tag_size> tag{};
  };
  FrameContent read(FramePlace place, Bytes memory, Marks& marks) const;
  // Authenticated, still compressed.
  PackedFrame read_packed(FramePlace place) const;
  PackedFrame read_packed(FramePlace place, Bytes memory, Marks& marks) const;
  // Calls `frame(place, head, tag)` for each frame in order, reading heads and tags only. Throws damage where
  // the row breaks, with `reached()` telling how far it got.
  template <typename F>
  void each_head(F&& frame) {
    reached_ = FileHeader::size;
    while (reached_ < size_) {
      auto [place, head] = head_at(reached_);
      frame(place, head, tag_of(place));
      reached_ += place.size;
    }
  }
  std::uint64_t reached() const { return reached_; }
  std::uint64_t size() const { return size_; }
  ByteView header_bytes() const { return header_bytes_; }
  void drop_cache() const { file_->drop_cache(); }
  // Its header comes from the drive: where something else of it does not, that place is bad and not the drive
  // away.
  bool reads() const;
  // Bytes as they lie there; zeros in place of those that the drive does not give.
  void read_raw(std::uint64_t offset, std::span<std::uint8_t> out) const;
  std::pair<FramePlace, Bytes> head_at(std::uint64_t offset) const;
  Bytes tag_of(FramePlace place) const;
  const std::string& path() const { return path_; }

 private:
  // The bytes of a frame, in memory of this thread's, until it reads the next one.
  ByteView raw(FramePlace place) const;
  ByteView raw(FramePlace place, Marks& marks) const;
  std::string path_;
  std::unique_ptr<StoreReader> file_;
  Bytes header_bytes_;
  std::optional<FrameCipher> cipher_;
  std::uint64_t size_ = 0;
  std::uint64_t reached_ = 0;
};

// The digest that a seal keeps of a file, computed again from its header, heads and tags; damage where it
// breaks off.
Digest light_digest(FrameFileReader& file);

}  // namespace kestrum
