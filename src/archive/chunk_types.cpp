#include "archive/chunk_types.hpp"

#include "base/error.hpp"

namespace kestrum {

void write_ref(ByteWriter& out, const ChunkRef& ref) {
  out.raw(ref.name.bytes);
  out.varint(ref.sequence);
  out.varint(ref.length);
}

ChunkName read_name(ByteReader& in) {
  ChunkName name;
  ByteView raw = in.raw(name.bytes.size());
  std::copy(raw.begin(), raw.end(), name.bytes.begin());
  return name;
}

ChunkRef read_ref(ByteReader& in) {
  ChunkRef ref;
  ref.name = read_name(in);
  std::uint64_t sequence = in.varint();
  if (sequence > 0x7fffffff) throw damage("a sequence number is beyond its limit");
  ref.sequence = static_cast<Sequence>(sequence);
  ref.length = in.varint();
  if (ref.length > limits::chunk) throw damage("a chunk is larger than it can be");
  return ref;
}

Naming::Naming(const SecretKey& key) : key_(key), chunk_key_(derive(key, "chunk-name", {})) {}

ChunkName Naming::name(ByteView content) const {
  return {keyed_digest(chunk_key_, content)};
}

}  // namespace kestrum
