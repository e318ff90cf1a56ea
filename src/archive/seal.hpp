// Seals, the encrypted root inside them, and open.json: docs/FORMAT.md sections 3 and 7.
#pragma once

#include "archive/catalog_page.hpp"
#include "archive/checked_json.hpp"
#include "archive/frame_file.hpp"
#include "archive/key_entry.hpp"
#include "archive/parity.hpp"

namespace kestrum {

inline constexpr const char* seal_name = "seal.json";
inline constexpr const char* seal_copy_name = "seal-copy.json";
inline constexpr const char* open_name = "open.json";
inline constexpr const char* reserve_name = "reserve.tmp";

struct SaltedBox {
  std::array<std::uint8_t, 32> salt{};
  Bytes box;
};

struct SealCore {
  Id job{};
  SetFacts facts;
  std::string machine;
  std::string job_name;
  std::vector<SealedFile> files;
  std::optional<Digest> previous;
  SaltedBox naming;
  SaltedBox root;
};

struct Root {
  CatalogTop catalog;
  FramePlace fence;
  ChunkRef record;
  ChunkRef job_file;
  ChunkRef problems;
};

struct Seal {
  SealCore core;
  std::uint64_t generation = 1;
  std::vector<KeyEntry> keys;
  std::vector<SealedParity> parity;  // in order of slots; its bytes are counted in what the set stores
  // Files that came in the place of others, or were added, when the set was mended: they stand in the core's
  // list too, as if they had always been there.
  std::vector<SealedFile> replaced;
  std::optional<FramePlace> fence;  // of an index that was made anew; else the root says it
  Digest core_digest{};
  CheckedJson checked;  // for authenticating once there is a key
};

// The bytes of seal.json. `seal.core_digest` and `seal.checked` are not looked at.
std::string encode_seal(const Seal& seal, const SecretKey& master);
// The bytes of the same seal with what its set's facts say of its standing, in the next generation.
// Everything else, known or not, stays as it is.
std::string restate_seal(const Seal& seal, const Standing& standing, const SecretKey& master);
// The same with what the guard, or a person, says of it.
std::string regard_seal(const Seal& seal, GuardMark mark, const SecretKey& master);
// The same with the parity, the replaced files and the fence of `mended`, which is the same seal but for
// these.
std::string mended_seal(const Seal& mended, const SecretKey& master);
// The same with other ways in, which open the same master key.
std::string rekey_seal(const Seal& seal, const std::vector<KeyEntry>& keys, const SecretKey& master);
// Form and digests only. Throws Error: damage; failed with a hint for a newer format or an unknown required
// feature.
Seal decode_seal(Bytes file, const std::string& what);
// Both sections carry the keyed digest of this key.
bool seal_is_authentic(const Seal& seal, const SecretKey& master);

Bytes encode_root(const Root& root);
Root decode_root(ByteView bytes);
SaltedBox box_root(const Root& root, const SecretKey& master, const Id& set);
Root unbox_root(const Seal& seal, const SecretKey& master);
SaltedBox box_naming(const SecretKey& naming, const SecretKey& master, const Id& chain);
SecretKey unbox_naming(const SaltedBox& box, const SecretKey& master, const Id& chain);

// open.json, written before the first frame.
struct OpenMark {
  Id job{};
  Id chain{};
  Id set{};
  Sequence sequence = 0;
  Kind kind = Kind::full;
  std::optional<Sequence> base;
  Instant started;
  std::vector<KeyEntry> keys;
  SaltedBox naming;
};
std::string encode_open_mark(const OpenMark& mark);
// Form and digest only; nothing of it is proved. Errors as in decode_seal.
OpenMark decode_open_mark(Bytes file, const std::string& what);

}  // namespace kestrum
