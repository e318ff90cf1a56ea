#include "base/bytes.hpp"

#include <array>

#include "base/error.hpp"

namespace kestrum {

void ByteWriter::fixed(std::uint64_t value, int width) {
  for (int i = 0; i < width; ++i) out_.push_back(static_cast<std::uint8_t>(value >> (8 * i)));
}

void ByteWriter::signed_varint(std::int64_t value) {
  varint((static_cast<std::uint64_t>(value) << 1) ^ static_cast<std::uint64_t>(value >> 63));
}

std::uint64_t ByteReader::fixed(int width) {
  ByteView part = raw(static_cast<std::uint64_t>(width));
  std::uint64_t value = 0;
  for (int i = 0; i < width; ++i) value |= std::uint64_t{part[static_cast<std::size_t>(i)]} << (8 * i);
  return value;
}

std::uint64_t ByteReader::long_varint(std::uint8_t first) {
  std::uint64_t value = first & 0x7fu;
  for (int shift = 7; shift < 70; shift += 7) {
    std::uint8_t byte = u8();
    if (shift == 63 && byte > 1) break;
    value |= std::uint64_t{byte & 0x7fu} << shift;
    if ((byte & 0x80) == 0) {
      if (byte == 0) break;  // not the shortest form
      return value;
    }
  }
  throw damage("a number is malformed");
}

std::int64_t ByteReader::signed_varint() {
  std::uint64_t raw_value = varint();
  return static_cast<std::int64_t>((raw_value >> 1) ^ (~(raw_value & 1) + 1));
}

void ByteReader::ends_early() {
  throw damage("data ends too early");
}

std::uint64_t ByteReader::checked_length(std::uint64_t limit) {
  std::uint64_t size = varint();
  if (size > limit) throw damage("a length is beyond its limit");
  return size;
}

void ByteReader::expect_end() const {
  if (!at_end()) throw damage("data goes on after its end");
}

std::string to_hex(ByteView bytes) {
  static constexpr char digits[] = "0123456789abcdef";
  std::string out;
  out.reserve(bytes.size() * 2);
  for (std::uint8_t byte : bytes) {
    out.push_back(digits[byte >> 4]);
    out.push_back(digits[byte & 15]);
  }
  return out;
}

std::optional<Bytes> from_hex(std::string_view hex) {
  Bytes out(hex.size() / 2);
  if (hex.size() % 2 != 0 || !decode_hex(hex, out)) return std::nullopt;
  return out;
}

bool decode_hex(std::string_view hex, std::span<std::uint8_t> out) {
  static constexpr std::array<std::uint8_t, 256> digits = [] {
    std::array<std::uint8_t, 256> table{};
    for (std::size_t c = 0; c < table.size(); ++c) {
      bool number = c >= '0' && c <= '9', letter = c >= 'a' && c <= 'f';
      table[c] = static_cast<std::uint8_t>(number ? c - '0' : letter ? c - 'a' + 10 : 0xff);
    }
    return table;
  }();
  if (hex.size() != 2 * out.size()) return false;
  std::uint8_t odd = 0;
  for (std::size_t i = 0; i < out.size(); ++i) {
    std::uint8_t high = digits[static_cast<std::uint8_t>(hex[2 * i])];
    std::uint8_t low = digits[static_cast<std::uint8_t>(hex[2 * i + 1])];
    odd |= high | low;
    out[i] = static_cast<std::uint8_t>(high << 4 | (low & 15));
  }
  return odd < 16;
}

}  // namespace kestrum
