// What the first bytes of a file look like: a file that was readable and begins like noise now was probably
// encrypted by somebody.
#pragma once

#include "base/bytes.hpp"

namespace kestrum {

enum class HeadLook : std::uint8_t {
  nothing,  // too short to tell, or not looked at
  known,    // as a common format begins
  text,
  plain,  // neither, but not like noise
  noise,  // every byte value about as often as any other, as in what is encrypted
};

// How much of a file is wanted for it, in bytes; less will do.
inline constexpr std::size_t head_size = 4096;
HeadLook look_at_head(ByteView first);

}  // namespace kestrum
