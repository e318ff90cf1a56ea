// SHA-256 (FIPS 180-4): digests of whole files, such as other programs make them too.
#pragma once

#include <memory>
#include <string>

#include "base/bytes.hpp"

namespace kestrum {

class Sha256 {
 public:
  Sha256();
  ~Sha256();
  void update(ByteView data);
  // So many bytes of zero.
  void zeros(std::uint64_t length);
  // In hexadecimal; nothing may be added afterwards.
  std::string finish();

 private:
  struct State;
  std::unique_ptr<State> state_;
};

}  // namespace kestrum
