// Byte buffers, little-endian integers and the varints of docs/FORMAT.md section 1.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace kestrum {

using Bytes = std::vector<std::uint8_t>;
using ByteView = std::span<const std::uint8_t>;

inline ByteView as_bytes(std::string_view text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}
inline std::string_view as_text(ByteView bytes) {
  return {reinterpret_cast<const char*>(bytes.data()), bytes.size()};
}

// Appends to a buffer it owns; `take` hands the buffer out and leaves the writer empty.
class ByteWriter {
 public:
  ByteWriter() = default;
  // Begins empty; `memory` is used again.
  explicit ByteWriter(Bytes memory) : out_(std::move(memory)) { out_.clear(); }
  void u8(std::uint8_t value) { out_.push_back(value); }
  void u16(std::uint16_t value) { fixed(value, 2); }
  void u32(std::uint32_t value) { fixed(value, 4); }
  void u64(std::uint64_t value) { fixed(value, 8); }
  void varint(std::uint64_t value) {
    while (value >= 0x80) {
      out_.push_back(static_cast<std::uint8_t>(value | 0x80));
      value >>= 7;
    }
    out_.push_back(static_cast<std::uint8_t>(value));
  }
  void signed_varint(std::int64_t value);
  void raw(ByteView bytes) { out_.insert(out_.end(), bytes.begin(), bytes.end()); }
  void bytes(ByteView value) {
    varint(value.size());
    raw(value);
  }
  void text(std::string_view value) { bytes(as_bytes(value)); }

  std::size_t size() const { return out_.size(); }
  ByteView view() const { return out_; }
  Bytes take() { return std::exchange(out_, {}); }
  void clear() { out_.clear(); }

 private:
  void fixed(std::uint64_t value, int width);
  Bytes out_;
};

// Reads from a view that must outlive it. Anything that does not fit throws Error of kind damage; the view's
// content is untrusted.
class ByteReader {
 public:
  explicit ByteReader(ByteView in) : in_(in) {}
  std::uint8_t u8() {
    if (pos_ == in_.size()) ends_early();
    return in_[pos_++];
  }
  std::uint16_t u16() { return static_cast<std::uint16_t>(fixed(2)); }
  std::uint32_t u32() { return static_cast<std::uint32_t>(fixed(4)); }
  std::uint64_t u64() { return fixed(8); }
  std::uint64_t varint() {
    std::uint8_t byte = u8();
    return byte < 0x80 ? byte : long_varint(byte);
  }
  std::int64_t signed_varint();
  ByteView raw(std::uint64_t size) {
    if (size > remaining()) ends_early();
    ByteView part = in_.subspan(pos_, size);
    pos_ += size;
    return part;
  }
  // `limit`: the largest length that is accepted.
  ByteView bytes(std::uint64_t limit) { return raw(checked_length(limit)); }
  std::string text(std::uint64_t limit) { return std::string(as_text(bytes(limit))); }
  bool at_end() const { return pos_ == in_.size(); }
  std::size_t remaining() const { return in_.size() - pos_; }
  void expect_end() const;

 private:
  [[noreturn]] static void ends_early();
  std::uint64_t long_varint(std::uint8_t first);
  std::uint64_t fixed(int width);
  std::uint64_t checked_length(std::uint64_t limit);
  ByteView in_;
  std::size_t pos_ = 0;
};

std::string to_hex(ByteView bytes);
// Strict: lower case, even length.
std::optional<Bytes> from_hex(std::string_view hex);
// The same into `out`, which it must fill exactly; false, and `out` is spoilt, when it does not.
bool decode_hex(std::string_view hex, std::span<std::uint8_t> out);

}  // namespace kestrum
