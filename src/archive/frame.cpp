#include "archive/frame.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::string_view magic_of(FileKind kind) {
  switch (kind) {
    case FileKind::volume:
      return "KSTMVOL\x1a";
    case FileKind::index:
      return "KSTMIDX\x1a";
    case FileKind::mend:
      return "KSTMMND\x1a";
  }
  return "";
}

constexpr std::string_view purpose_of(FileKind kind) {
  return kind == FileKind::volume ? "volume" : kind == FileKind::index ? "index" : "mend";
}

template <typename Array>
void fill(Array& array, ByteView from) {
  std::copy(from.begin(), from.end(), array.begin());
}

bool lists_chunks(FrameKind kind) {
  return kind == FrameKind::content || kind == FrameKind::catalog || kind == FrameKind::record;
}

}  // namespace

Bytes FileHeader::encode() const {
  ByteWriter out;
  out.raw(as_bytes(magic_of(kind)));
  out.u16(1);
  out.u16(size);
  out.u32(number);
  out.raw(job);
  out.raw(set);
  out.raw(salt);
  out.u64(0);
  Digest check = digest(out.view());
  out.raw(ByteView(check).first(8));
  return out.take();
}

FileHeader FileHeader::decode(ByteView bytes, const std::string& name) {
  FileHeader header;
  if (bytes.size() != size) throw damage(name + " ends within its header");
  ByteReader in(bytes);
  std::string_view magic = as_text(in.raw(8));
  if (magic == magic_of(FileKind::volume)) {
    header.kind = FileKind::volume;
  } else if (magic == magic_of(FileKind::index)) {
    header.kind = FileKind::index;
  } else if (magic == magic_of(FileKind::mend)) {
    header.kind = FileKind::mend;
  } else {
    throw damage(name + " is no Kestrum data file");
  }
  Digest check = digest(bytes.first(88));
  if (!std::equal(check.begin(), check.begin() + 8, bytes.begin() + 88))
    throw damage("the header of " + name + " is damaged");
  std::uint16_t version = in.u16();
  if (version != 1) {
    throw Error(ErrorKind::failed,
                fmt::format("{} has format {}, which this version does not know", name, version),
                "read it with a newer version of kestrum");
  }
  if (in.u16() != size) throw damage("the header of " + name + " is damaged");
  header.number = in.u32();
  fill(header.job, in.raw(16));
  fill(header.set, in.raw(16));
  fill(header.salt, in.raw(32));
  if (in.u64() != 0) throw damage("the header of " + name + " is damaged");
  return header;
}

SecretKey file_key(const SecretKey& master, const FileHeader& header) {
  return derive(master, purpose_of(header.kind), header.encode());
}

std::string volume_file_name(std::uint32_t number) {
  return fmt::format("data-{:03}.kvol", number);
}

Bytes FrameHead::encode() const {
  ByteWriter out;
  out.raw(as_bytes("KFRM"));
  out.u8(static_cast<std::uint8_t>(kind));
  out.u8(static_cast<std::uint8_t>(codec));
  out.u8(static_cast<std::uint8_t>(level));
  out.u8(0);
  out.u32(ordinal);
  out.u32(box_size);
  return out.take();
}

FrameHead FrameHead::decode(ByteView bytes) {
  ByteReader in(bytes);
  FrameHead head;
  if (as_text(in.raw(4)) != "KFRM") throw damage("no frame starts where one should");
  std::uint8_t kind = in.u8();
  std::uint8_t codec = in.u8();
  head.level = static_cast<std::int8_t>(in.u8());
  std::uint8_t reserved = in.u8();
  head.ordinal = in.u32();
  head.box_size = in.u32();
  bool good = kind >= 1 && kind <= 7 && codec <= 1 && reserved == 0 && head.box_size >= 8 &&
              head.box_size <= (kind == 7 ? limits::fence : limits::frame_box);
  if (!good) throw damage("the head of a frame is damaged");
  head.kind = static_cast<FrameKind>(kind);
  head.codec = static_cast<Codec>(codec);
  return head;
}

PackedFrame pack_frame(const FrameContent& frame, int level, Compressor& compressor, Bytes box) {
  PackedFrame packed;
  packed.kind = frame.kind;
  packed.chunks = frame.chunks;
  ByteWriter list(std::move(box));
  list.u32(static_cast<std::uint32_t>(packed.chunks.size()));
  for (const ListedChunk& chunk : packed.chunks) {
    list.raw(chunk.name.bytes);
    list.u32(chunk.length);
  }
  list.u32(static_cast<std::uint32_t>(frame.content.size()));
  packed.box = list.take();
  packed.codec = compressor.compress(frame.content, level, packed.box);
  packed.level = static_cast<std::int8_t>(packed.codec == Codec::zstd ? level : 0);
  return packed;
}

FrameCipher::FrameCipher(const SecretKey& master, const FileHeader& header)
    : header_(header.encode()), aead_(file_key(master, header)) {}

ByteView FrameCipher::encrypt(const PackedFrame& frame, std::uint32_t ordinal, Bytes& memory) const {
  FrameHead head{frame.kind, frame.codec, frame.level, ordinal, static_cast<std::uint32_t>(frame.box.size())};
  Bytes start = head.encode();
  Bytes associated = header_;
  associated.insert(associated.end(), start.begin(), start.end());
  if (memory.size() < head.frame_size()) memory.resize(head.frame_size());
  const std::span<std::uint8_t> out = std::span(memory).first(head.frame_size());
  std::copy(start.begin(), start.end(), out.begin());
  aead_.seal(ordinal, associated, frame.box, out.subspan(FrameHead::size));
  return out;
}

namespace {

FrameHead head_of(ByteView frame) {
  FrameHead head = FrameHead::decode(frame.first(std::min(frame.size(), FrameHead::size)));
  if (head.frame_size() != frame.size()) throw damage("a frame has the wrong size");
  return head;
}

// The list at the start of a decrypted frame; returns the size of the content behind it.
std::uint32_t read_list(ByteReader& in, FrameKind kind, std::vector<ListedChunk>& chunks) {
  std::uint32_t count = in.u32();
  if (count > limits::chunks_per_frame || (count != 0 && !lists_chunks(kind)))
    throw damage("a frame lists too much");
  std::uint64_t sum = 0;
  chunks.reserve(count);
  for (std::uint32_t i = 0; i < count; ++i) {
    ChunkName name = read_name(in);
    std::uint32_t length = in.u32();
    sum += length;
    chunks.push_back({name, length});
  }
  std::uint32_t size = in.u32();
  if (size > (kind == FrameKind::fence ? limits::fence : limits::frame_content))
    throw damage("a frame is too large");
  if (lists_chunks(kind) && sum != size) throw damage("a frame's list does not fit its content");
  return size;
}

}  // namespace

void FrameCipher::open_box(ByteView frame, const FrameHead& head, Bytes& box) const {
  Bytes associated = header_;
  associated.insert(associated.end(), frame.begin(), frame.begin() + FrameHead::size);
  if (!aead_.open(head.ordinal, associated, frame.subspan(FrameHead::size), box))
    throw damage("a frame does not authenticate: its bytes were changed");
}

FrameContent FrameCipher::decrypt(ByteView frame, Decompressor& decompressor, Bytes memory) const {
  FrameHead head = head_of(frame);
  static thread_local Bytes box;
  open_box(frame, head, box);
  FrameContent out;
  out.kind = head.kind;
  ByteReader in(box);
  std::uint32_t size = read_list(in, head.kind, out.chunks);
  out.content = decompressor.decompress(head.codec, in.raw(in.remaining()), size, std::move(memory));
  return out;
}

PackedFrame FrameCipher::unpack(ByteView frame, Bytes memory) const {
  FrameHead head = head_of(frame);
  PackedFrame out;
  out.box = std::move(memory);
  out.kind = head.kind;
  out.codec = head.codec;
  out.level = head.level;
  open_box(frame, head, out.box);
  ByteReader in(out.box);
  read_list(in, head.kind, out.chunks);
  return out;
}

void check_names(const FrameContent& frame, const Naming& naming) {
  ByteView rest = frame.content;
  for (const ListedChunk& chunk : frame.chunks) {
    if (naming.name(rest.first(chunk.length)) != chunk.name)
      throw damage("content does not have the name it is listed under");
    rest = rest.subspan(chunk.length);
  }
}

}  // namespace kestrum
