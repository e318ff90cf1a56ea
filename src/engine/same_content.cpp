#include "engine/same_content.hpp"

#include <unistd.h>

#include <algorithm>

#include "archive/content_list.hpp"
#include "base/error.hpp"

namespace kestrum {
namespace {

struct Different {};

}  // namespace

bool read_exactly(int fd, Bytes& out, std::uint64_t length) {
  out.resize(length);
  std::size_t done = 0;
  while (done < length) {
    const ssize_t got = read(fd, out.data() + done, length - done);
    if (got <= 0) return false;
    done += static_cast<std::size_t>(got);
  }
  return true;
}

bool same_content(PointReader& reader, const Entry& entry, int fd, RunControl& control) {
  const Naming& naming = reader.naming();
  Bytes content;
  const auto compare = [&](const ContentItem& item) {
    constexpr std::uint64_t hole_step = 1u << 20;
    const bool hole = item.kind == ItemKind::hole;
    for (std::uint64_t left = item.length; left > 0;) {
      const std::uint64_t step = hole ? std::min(left, hole_step) : left;
      control.checkpoint();
      if (!read_exactly(fd, content, step)) throw Different{};
      const bool same = hole
                            ? std::all_of(content.begin(), content.end(), [](auto byte) { return byte == 0; })
                            : naming.name(content) == item.ref().name;
      if (!same) throw Different{};
      left -= step;
    }
  };
  try {
    walk_content(entry.content, reader, compare);
  } catch (const Different&) {
    return false;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return false;
  }
  return true;
}

}  // namespace kestrum
