#include "base/bytes.hpp"

#include <array>
#include <bit>
#include <cstring>

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
  std::string out(bytes.size() * 2, '0');
  char* at = out.data();
  for (std::uint8_t byte : bytes) {
    *at++ = digits[byte >> 4];
    *at++ = digits[byte & 15];
  }
  return out;
}

std::optional<Bytes> from_hex(std::string_view hex) {
  Bytes out(hex.size() / 2);
  if (hex.size() % 2 != 0 || !decode_hex(hex, out)) return std::nullopt;
  return out;
}

namespace {

// Vectors of the compiler's: a third of the instructions that a table takes, and the hundreds of seals of a
// destination are mostly such digits.
using Chars = std::uint8_t __attribute__((vector_size(16)));
using Pairs = std::uint16_t __attribute__((vector_size(16)));
using Eight = std::uint8_t __attribute__((vector_size(8)));

// Eight bytes of sixteen digits; `good` keeps its bits where they are digits.
Eight decode_sixteen(Chars text, Chars& good) {
  Chars digit = text - '0', letter = text - 'a';
  Chars is_digit = reinterpret_cast<Chars>(digit < 10), is_letter = reinterpret_cast<Chars>(letter < 6);
  good &= is_digit | is_letter;
  auto nibbles = reinterpret_cast<Pairs>((is_digit & digit) | (is_letter & (letter + 10)));
  return __builtin_convertvector((nibbles << 4 | nibbles >> 8) & 0xff, Eight);
}

}  // namespace

bool decode_hex(std::string_view hex, std::span<std::uint8_t> out) {
  static_assert(std::endian::native == std::endian::little);
  if (hex.size() != 2 * out.size()) return false;
  Chars good = ~Chars{};
  std::size_t at = 0;
  for (; at + 8 <= out.size(); at += 8) {
    Chars text;
    std::memcpy(&text, hex.data() + 2 * at, sizeof text);
    Eight bytes = decode_sixteen(text, good);
    std::memcpy(out.data() + at, &bytes, sizeof bytes);
  }
  if (at < out.size()) {
    Chars text = Chars{} + '0';
    std::memcpy(&text, hex.data() + 2 * at, hex.size() - 2 * at);
    Eight bytes = decode_sixteen(text, good);
    std::memcpy(out.data() + at, &bytes, out.size() - at);
  }
  std::array<std::uint64_t, 2> all{};
  std::memcpy(all.data(), &good, sizeof good);
  return (all[0] & all[1]) == UINT64_MAX;
}

}  // namespace kestrum
