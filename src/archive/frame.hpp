// File headers and frames: docs/FORMAT.md sections 4 and 5.
#pragma once

#include "archive/chunk_types.hpp"
#include "archive/codec.hpp"

namespace kestrum {

enum class FileKind { volume, index, mend };

// The 96 bytes that every binary file starts with.
struct FileHeader {
  static constexpr std::size_t size = 96;
  FileKind kind = FileKind::volume;
  std::uint32_t number = 0;
  Id job{};
  Id set{};
  std::array<std::uint8_t, 32> salt{};

  Bytes encode() const;
  // Throws Error of kind damage; `name` is the file's, for the message.
  static FileHeader decode(ByteView bytes, const std::string& name);
};

SecretKey file_key(const SecretKey& master, const FileHeader& header);
std::string volume_file_name(std::uint32_t number);
inline constexpr std::string_view volume_ending = ".kvol";
inline constexpr const char* index_file_name = "index.kidx";

enum class FrameKind : std::uint8_t {
  content = 1,
  catalog = 2,
  journal = 3,
  closing = 4,
  record = 5,
  index_page = 6,
  fence = 7,
};

struct FrameHead {
  static constexpr std::size_t size = 16;
  FrameKind kind = FrameKind::content;
  Codec codec = Codec::stored;
  std::int8_t level = 0;
  std::uint32_t ordinal = 0;
  std::uint32_t box_size = 0;  // encrypted part, without tag

  std::uint32_t frame_size() const { return static_cast<std::uint32_t>(size + box_size + Aead::tag_size); }
  Bytes encode() const;
  static FrameHead decode(ByteView bytes);  // damage when it is none
};

struct ListedChunk {
  ChunkName name;
  std::uint32_t length = 0;
};

// A frame before compression, or after decryption.
struct FrameContent {
  FrameKind kind = FrameKind::content;
  std::vector<ListedChunk> chunks;
  Bytes content;
};

// Compressed, not yet encrypted: what a worker hands to the writer.
struct PackedFrame {
  FrameKind kind = FrameKind::content;
  Codec codec = Codec::stored;
  std::int8_t level = 0;
  std::vector<ListedChunk> chunks;
  Bytes box;  // plaintext of the encrypted part
};

// `box`: memory to be used for the result's.
PackedFrame pack_frame(const FrameContent& frame, int level, Compressor& compressor, Bytes box = {});

// The parts of one open file that encrypting and decrypting its frames needs.
class FrameCipher {
 public:
  FrameCipher(const SecretKey& master, const FileHeader& header);
  // The whole frame as it lies in the file, in `memory`, which grows where it must and never shrinks: growing
  // it for every large frame behind a small one would fill it with zeros each time.
  ByteView encrypt(const PackedFrame& frame, std::uint32_t ordinal, Bytes& memory) const;
  Bytes encrypt(const PackedFrame& frame, std::uint32_t ordinal) const {
    Bytes memory;
    return to_bytes(encrypt(frame, ordinal, memory));
  }
  // `frame`: head, encrypted part and tag. Checks the tag before anything else is looked at. Does not check
  // that chunks have the names listed (see check_names). Throws Error of kind damage.
  // `memory` is used for the content.
  FrameContent decrypt(ByteView frame, Decompressor& decompressor, Bytes memory = {}) const;
  // Authenticated, its list read, still compressed. `memory` is used for what it holds.
  PackedFrame unpack(ByteView frame, Bytes memory = {}) const;

 private:
  void open_box(ByteView frame, const FrameHead& head, Bytes& box) const;
  Bytes header_;
  Aead aead_;
};

// Every chunk has the name that is listed for it; damage otherwise.
void check_names(const FrameContent& frame, const Naming& naming);

}  // namespace kestrum
