#include "base/random.hpp"

#include <sodium.h>

#include "base/error.hpp"

namespace kestrum {

void fill_random(std::span<std::uint8_t> out) {
  if (sodium_init() < 0) throw Error(ErrorKind::failed, "the system offers no random numbers");
  randombytes_buf(out.data(), out.size());
}

Bytes random_bytes(std::size_t size) {
  Bytes out(size);
  fill_random(out);
  return out;
}

std::uint64_t random_number() {
  std::uint64_t number = 0;
  fill_random(std::span(reinterpret_cast<std::uint8_t*>(&number), sizeof number));
  return number;
}

Id random_id() {
  Id id;
  fill_random(id);
  return id;
}

}  // namespace kestrum
