// The unit of an axis of sizes.
#pragma once

#include <cstdint>

namespace kestrum {

struct FigureUnit {
  const char* name;
  double bytes;
};
inline FigureUnit figure_unit(std::uint64_t most) {
  if (most >= std::uint64_t{1} << 40) return {"TiB", 1099511627776.0};
  if (most >= std::uint64_t{1} << 30) return {"GiB", 1073741824.0};
  if (most >= 1u << 20) return {"MiB", 1048576.0};
  return {"KiB", 1024.0};
}

}  // namespace kestrum
