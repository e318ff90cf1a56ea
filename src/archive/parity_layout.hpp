// What making and reading of a parity file have in common: docs/FORMAT.md section 10.
#pragma once

#include <isa-l.h>
#include <xxhash.h>

#include "archive/parity.hpp"

namespace kestrum::parity {

inline constexpr std::uint32_t most_slices = 255;  // of a group, its parity among them
inline constexpr std::string_view parity_magic = "KMND";
inline constexpr std::uint64_t own_head = 64;  // bytes behind the file's header
inline constexpr std::uint64_t head_bytes = FileHeader::size + own_head;
inline constexpr std::uint64_t check_bytes = 8, digest_bytes = 32;
inline constexpr std::size_t read_bytes = 1u << 20;

inline std::uint64_t check_of(const std::uint8_t* slice) {
  return XXH3_64bits(slice, parity_slice);
}

// Coefficient of a group's data slice `column` in its parity slice `row`.
inline std::uint8_t coefficient(const ParityShape& shape, std::uint32_t row, std::uint32_t column) {
  return gf_inv(static_cast<unsigned char>((shape.k + row) ^ column));
}

// Where the parts of a parity file begin.
struct ParityLayout {
  ParityLayout(const ParityShape& shape, std::uint64_t bytes)
      : data(parity_slices(bytes)),
        parity(std::uint64_t{shape.groups} * shape.m),
        slices(head_bytes + check_bytes * (data + parity)),
        again(slices + parity_slice * parity),
        digest(again + check_bytes * (data + parity)),
        end(digest + digest_bytes) {}
  std::uint64_t data, parity;  // slices
  std::uint64_t slices, again, digest, end;
};

inline Bytes own_head_of(const ParityShape& shape, const SealedFile& of) {
  ByteWriter out;
  out.raw(as_bytes(parity_magic));
  out.u32(1);
  out.u64(of.size);
  out.u32(parity_slice);
  out.u32(shape.k);
  out.u32(shape.m);
  out.u32(shape.groups);
  out.raw(of.digest);
  return out.take();
}

}  // namespace kestrum::parity
