// Frames, cutting, compression: the small pieces of a volume.
#include <gtest/gtest.h>

#include <functional>
#include <nlohmann/json.hpp>
#include <random>

#include "archive/cutter.hpp"
#include "archive/frame_file.hpp"
#include "archive/seal.hpp"
#include "base/error.hpp"
#include "support/memory_store.hpp"

namespace kestrum::test {
namespace {

Bytes noise(std::size_t size, unsigned seed) {
  std::mt19937_64 random(seed);
  Bytes out(size);
  for (std::uint8_t& byte : out) byte = static_cast<std::uint8_t>(random());
  return out;
}

FrameContent sample(const Naming& naming, std::size_t chunks, std::size_t size) {
  FrameContent frame;
  for (std::size_t i = 0; i < chunks; ++i) {
    Bytes chunk = noise(size, static_cast<unsigned>(i));
    frame.chunks.push_back({naming.name(chunk), static_cast<std::uint32_t>(size)});
    frame.content.insert(frame.content.end(), chunk.begin(), chunk.end());
  }
  return frame;
}

class Frames : public testing::Test {
 protected:
  SecretKey master_ = SecretKey::random();
  Naming naming_{SecretKey::random()};
  FileHeader header_{FileKind::volume, 1, random_id(), random_id(), {}};
  Compressor compressor_;
  Decompressor decompressor_;
};

TEST_F(Frames, RoundTrip) {
  FrameCipher cipher(master_, header_);
  for (std::size_t chunks : {0u, 1u, 5u}) {
    FrameContent frame = sample(naming_, chunks, 1000);
    FrameContent copy = frame;
    Bytes bytes = cipher.encrypt(pack_frame(copy, 3, compressor_), 4);
    FrameContent back = cipher.decrypt(bytes, decompressor_);
    EXPECT_EQ(back.content, frame.content);
    EXPECT_EQ(back.chunks.size(), chunks);
    EXPECT_NO_THROW(check_names(back, naming_));
  }
}

TEST_F(Frames, EveryByteOfAFrameCounts) {
  FrameCipher cipher(master_, header_);
  Bytes bytes = cipher.encrypt(pack_frame(sample(naming_, 2, 40), 3, compressor_), 0);
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    for (int bit = 0; bit < 8; ++bit) {
      bytes[i] ^= static_cast<std::uint8_t>(1 << bit);
      EXPECT_THROW(cipher.decrypt(bytes, decompressor_), Error) << i;
      bytes[i] ^= static_cast<std::uint8_t>(1 << bit);
    }
  }
}

TEST_F(Frames, AnotherFilesKeyDoesNotOpenIt) {
  FileHeader other = header_;
  other.number = 2;
  Bytes bytes = FrameCipher(master_, header_).encrypt(pack_frame(sample(naming_, 1, 40), 3, compressor_), 0);
  EXPECT_THROW(FrameCipher(master_, other).decrypt(bytes, decompressor_), Error);
}

// A frame that authenticates and lies: only somebody with the key can write one, and it still must not crash
// a reader.
TEST_F(Frames, ListsThatLieAreDamage) {
  FrameCipher cipher(master_, header_);
  auto packed = [&](std::uint32_t count, std::uint32_t chunk, std::uint32_t size, FrameKind kind) {
    ByteWriter box;
    box.u32(count);
    if (count == 1) {
      box.raw(ChunkName{}.bytes);
      box.u32(chunk);
    }
    box.u32(size);
    box.raw(Bytes(10, 'x'));
    PackedFrame frame;
    frame.kind = kind;
    frame.box = box.take();
    return cipher.encrypt(frame, 0);
  };
  EXPECT_NO_THROW(cipher.decrypt(packed(1, 10, 10, FrameKind::content), decompressor_));
  EXPECT_THROW(cipher.decrypt(packed(1, 11, 10, FrameKind::content), decompressor_), Error);
  EXPECT_THROW(cipher.decrypt(packed(1, 10, 9, FrameKind::content), decompressor_), Error);
  EXPECT_THROW(cipher.decrypt(packed(0xffffffff, 0, 10, FrameKind::content), decompressor_), Error);
  EXPECT_THROW(cipher.decrypt(packed(0, 0, 0xffffffff, FrameKind::closing), decompressor_), Error);
  EXPECT_THROW(cipher.decrypt(packed(1, 10, 10, FrameKind::closing), decompressor_), Error);
}

TEST_F(Frames, HeadersAreChecked) {
  Bytes bytes = header_.encode();
  ASSERT_EQ(bytes.size(), FileHeader::size);
  EXPECT_EQ(FileHeader::decode(bytes, "x").set, header_.set);
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    bytes[i] ^= 0x20;
    EXPECT_THROW(FileHeader::decode(bytes, "x"), Error) << i;
    bytes[i] ^= 0x20;
  }
  EXPECT_THROW(FileHeader::decode(ByteView(bytes).first(95), "x"), Error);
}

TEST_F(Frames, AFileIsARowOfFrames) {
  MemoryStore store;
  FrameFileWriter writer(store, "v", master_, header_);
  FramePlace first = writer.append(pack_frame(sample(naming_, 2, 100), 3, compressor_));
  FramePlace second = writer.append(pack_frame(sample(naming_, 3, 100), 3, compressor_));
  EXPECT_EQ(second.offset, first.offset + first.size);
  SealedFile sealed = writer.finish();
  sealed.slot = 1;
  FrameFileReader reader(store, "v", master_, header_.job, sealed);
  EXPECT_EQ(reader.read(second).chunks.size(), 3u);
  EXPECT_EQ(light_digest(reader), sealed.digest);
  EXPECT_THROW(reader.read({first.offset, first.size + 1}), Error);
  EXPECT_THROW(reader.read({first.offset + 1, first.size}), Error);
  EXPECT_THROW(reader.read({1u << 30, 100}), Error);
  sealed.number = 2;
  EXPECT_THROW(FrameFileReader(store, "v", master_, header_.job, sealed), Error);
}

TEST(Codec, WhatDoesNotShrinkIsStored) {
  Compressor compressor;
  Decompressor decompressor;
  Bytes random = noise(1u << 20, 1);
  Bytes text(1u << 20, 'a');
  for (const Bytes* content : {&random, &text}) {
    Bytes packed;
    Codec codec = compressor.compress(*content, 3, packed);
    EXPECT_EQ(codec, content == &random ? Codec::stored : Codec::zstd);
    EXPECT_LE(packed.size(), content->size());
    EXPECT_EQ(decompressor.decompress(codec, packed, content->size()), *content);
    EXPECT_THROW(decompressor.decompress(codec, packed, content->size() + 1), Error);
    EXPECT_THROW(decompressor.decompress(codec, packed, content->size() - 1), Error);
  }
  EXPECT_THROW(decompressor.decompress(Codec::zstd, noise(100, 2), 100), Error);
}

TEST(Cutter, SizesStayWithinTheirLimits) {
  Cutter cutter(SecretKey::random());
  Bytes content = noise(64u << 20, 3);
  ByteView rest = content;
  std::size_t chunks = 0;
  while (!rest.empty()) {
    std::size_t length = cutter.cut(rest);
    ASSERT_GT(length, 0u);
    ASSERT_LE(length, Cutter::max_size);
    if (length != rest.size()) {
      ASSERT_GE(length, Cutter::min_size);
    }
    rest = rest.subspan(length);
    ++chunks;
  }
  EXPECT_GT(chunks, 40u);  // an average of about 1 MiB
  EXPECT_LT(chunks, 90u);
  EXPECT_EQ(cutter.cut({}), 0u);
  EXPECT_EQ(cutter.cut(ByteView(content).first(100)), 100u);
}

TEST(Cutter, CutsMoveWithTheContent) {
  // The same key each time: with chance ones a cut is once in a while found again only after a few chunks
  // more.
  std::array<std::uint8_t, 32> sevens{};
  sevens.fill(7);
  SecretKey key(sevens);
  Cutter cutter(key);
  Naming naming(key);
  Bytes content = noise(32u << 20, 4);
  auto names = [&](const Bytes& bytes) {
    std::vector<ChunkName> out;
    for (ByteView rest = bytes; !rest.empty();) {
      std::size_t length = cutter.cut(rest);
      out.push_back(naming.name(rest.first(length)));
      rest = rest.subspan(length);
    }
    return out;
  };
  std::vector<ChunkName> before = names(content);
  for (std::size_t inserted : {1u, 10u, 4096u, 100000u}) {
    Bytes longer = noise(inserted, 5);
    longer.insert(longer.end(), content.begin(), content.end());
    std::vector<ChunkName> after = names(longer);
    std::size_t fresh = 0;
    for (const ChunkName& name : after)
      fresh += std::find(before.begin(), before.end(), name) == before.end() ? 1 : 0;
    EXPECT_LE(fresh, 4u) << inserted;
  }
}

// A seal whose core was changed, with digests that hold.
Seal with_core(const std::function<void(nlohmann::ordered_json&)>& change) {
  Seal seal;
  seal.core.facts.sequence = 3;
  seal.core.facts.base = 2;
  seal.core.facts.needs = {{2, Id{1}}};
  seal.core.facts.needs_follow = true;
  seal.core.facts.without = {1};
  seal.core.machine = "skerry-1";
  seal.core.files = {{0, "index.kidx", Id{}, 0, 380, Digest{}}, {1, "data-001.kvol", Id{}, 1, 16, Digest{}}};
  SecretKey master(Bytes(SecretKey::size, 7));
  CheckedJson file = read_checked_json(to_bytes(as_bytes(encode_seal(seal, master))), {"core", "envelope"},
                                       true, "the seal");
  auto core = nlohmann::ordered_json::parse(file.text(0));
  change(core);
  std::string text = write_checked_json({{"core", core.dump()}, {"envelope", std::string(file.text(1))}},
                                        [](const std::string&, ByteView) { return Digest{}; });
  return decode_seal(to_bytes(as_bytes(text)), "the seal");
}

TEST(Seal, MembersAreReadInAnyOrderAndNoOthers) {
  Seal as_written = with_core([](auto&) {});
  EXPECT_EQ(as_written.core.facts.without, std::vector<Sequence>{1});
  Seal turned = with_core([](auto& core) {
    nlohmann::ordered_json other;
    for (auto item = core.rbegin(); item != core.rend(); ++item) other[item.key()] = item.value();
    core = other;
  });
  EXPECT_EQ(turned.core.facts.sequence, 3u);
  EXPECT_EQ(turned.core.facts.base, as_written.core.facts.base);
  EXPECT_EQ(turned.core.files.size(), 2u);
  EXPECT_EQ(turned.core.machine, "skerry-1");
  auto members = std::vector<std::string>{"format", "chain", "base", "totals", "files", "naming", "without"};
  for (const std::string& name : members)
    EXPECT_THROW(with_core([&](auto& core) { core.erase(name); }), Error) << name;
  EXPECT_THROW(with_core([](auto& core) { core["colour"] = "grey"; }), Error) << "one more at the end";
  EXPECT_THROW(with_core([](auto& core) { core["files"][1]["colour"] = "grey"; }), Error);
  EXPECT_THROW(with_core([](auto& core) { core["root"]["colour"] = "grey"; }), Error);
  auto first = [](auto& core) {
    nlohmann::ordered_json other{{"colour", "grey"}};
    other.update(core);
    core = other;
  };
  EXPECT_THROW(with_core(first), Error) << "one more at the front";
  EXPECT_THROW(with_core([&](auto& core) { first(core["naming"]); }), Error);
}

}  // namespace
}  // namespace kestrum::test
