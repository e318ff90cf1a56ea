#include "engine/machine_identity.hpp"

#include <fcntl.h>
#include <linux/magic.h>
#include <sys/vfs.h>

#include <algorithm>

#include "archive/crypto.hpp"
#include "base/file_handle.hpp"
#include "base/hex_array.hpp"

namespace kestrum {
namespace {

constexpr std::size_t letters = 32;

}  // namespace

Id machine_identity_of(std::string_view text) {
  Id out{};
  const auto raw = array_from_hex<16>(std::string(text.substr(0, letters)));
  if (!raw || *raw == Id{}) return out;
  Bytes named = to_bytes(std::string_view("kestrum.machine"));
  named.insert(named.end(), raw->begin(), raw->end());
  const Digest hidden = digest(named);
  std::copy_n(hidden.begin(), out.size(), out.begin());
  return out;
}

Id machine_identity(const std::string& file) {
  const FileHandle handle(open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOCTTY));
  struct statfs kind {};
  // A system that makes one at each start lays it over the file from its memory.
  if (!handle || fstatfs(handle.get(), &kind) != 0 || kind.f_type == TMPFS_MAGIC) return {};
  char text[letters] = {};
  if (read_full(handle.get(), text, letters, 0) != letters) return {};
  return machine_identity_of({text, letters});
}

}  // namespace kestrum
