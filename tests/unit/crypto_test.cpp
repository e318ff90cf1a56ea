// Known answers for the primitives, and what the wrapper adds to them.
#include <gtest/gtest.h>

#include "archive/key_entry.hpp"
#include "base/error.hpp"

namespace kestrum::test {
namespace {

Bytes hex(const char* text) {
  return *from_hex(text);
}

TEST(Crypto, Blake2bKnownAnswer) {
  // BLAKE2b with 32 bytes of output over "abc": computed with another implementation.
  EXPECT_EQ(to_hex(digest(as_bytes("abc"))),
            "bddd813c634239723171ef3fee98579b94964e3bb1cb3e427262c8c068d52319");
  EXPECT_EQ(to_hex(digest({})), "0e5751c026e543b2e8ab2eb06099daa1d1e5df47778f7787faab45cdf12fe3a8");
  DigestStream stream;
  stream.update(as_bytes("a"));
  stream.update(as_bytes("bc"));
  EXPECT_EQ(stream.finish(), digest(as_bytes("abc")));
}

TEST(Crypto, AesGcmKnownAnswer) {
  // The GCM specification's test case 13: a zero key, a zero nonce, nothing to encrypt.
  Bytes box;
  Aead aead{SecretKey(Bytes(32, 0))};
  aead.seal(0, {}, {}, box);
  EXPECT_EQ(to_hex(box), "530f8afbc74536b9a963b4f1c4cb738b");
  box.clear();
  aead.seal(0, {}, Bytes(16, 0), box);  // test case 14
  EXPECT_EQ(to_hex(box), "cea7403d4d606b6e074ec5d3baf39d18d0d1c8a799996bf0265b98b5d48ab919");
}

TEST(Crypto, NothingOpensThatWasTouched) {
  Aead aead{SecretKey::random()};
  Bytes box;
  aead.seal(7, as_bytes("head"), as_bytes("the petrel is back"), box);
  EXPECT_EQ(as_text(*aead.open(7, as_bytes("head"), box)), "the petrel is back");
  EXPECT_FALSE(aead.open(8, as_bytes("head"), box));
  EXPECT_FALSE(aead.open(7, as_bytes("heae"), box));
  for (std::size_t i = 0; i < box.size(); ++i) {
    box[i] ^= 1;
    EXPECT_FALSE(aead.open(7, as_bytes("head"), box)) << i;
    box[i] ^= 1;
  }
  EXPECT_FALSE(aead.open(7, as_bytes("head"), ByteView(box).first(10)));
}

TEST(Crypto, PurposesAndContextsGiveDifferentKeys) {
  SecretKey key = SecretKey::random();
  EXPECT_FALSE(derive(key, "a", {}) == derive(key, "b", {}));
  EXPECT_FALSE(derive(key, "a", as_bytes("x")) == derive(key, "a", as_bytes("y")));
  EXPECT_TRUE(derive(key, "a", as_bytes("x")) == derive(key, "a", as_bytes("x")));
  EXPECT_THROW(SecretKey(hex("00")), Error);
}

TEST(Keys, APassphraseOpensItsChainAndNoOther) {
  SecretKey master = SecretKey::random();
  Id chain = random_id();
  KeyEntry entry = make_passphrase_entry(master, chain, "tern in the fog", {8, 1});
  KeyRing right([] { return std::optional<SecretText>("tern in the fog"); });
  EXPECT_TRUE(right.unlock({entry}, chain) == master);
  KeyRing wrong([] { return std::optional<SecretText>("tern in the mist"); });
  try {
    wrong.unlock({entry}, chain);
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::key);
  }
  KeyRing elsewhere([] { return std::optional<SecretText>("tern in the fog"); });
  EXPECT_THROW(elsewhere.unlock({entry}, random_id()), Error);
  KeyRing nobody({});
  EXPECT_THROW(nobody.unlock({entry}, chain), Error);
}

TEST(Keys, AReaderCapsWhatAnEntryMayCost) {
  KeyEntry entry = make_passphrase_entry(SecretKey::random(), random_id(), "x", {8, 1});
  entry.cost.memory_kib = 1u << 30;
  KeyRing ring([] { return std::optional<SecretText>("x"); });
  try {
    ring.unlock({entry}, random_id());
    FAIL();
  } catch (const Error& error) {
    EXPECT_EQ(error.kind(), ErrorKind::damage);
  }
}

TEST(Keys, TheRingAsksOnceAndRemembers) {
  int asked = 0;
  SecretKey master = SecretKey::random();
  Id one = random_id();
  Id two = random_id();
  std::vector<KeyEntry> first{make_passphrase_entry(master, one, "x", {8, 1})};
  std::vector<KeyEntry> second{make_passphrase_entry(master, two, "x", {8, 1})};
  KeyRing ring([&] {
    ++asked;
    return std::optional<SecretText>("x");
  });
  ring.unlock(first, one);
  ring.unlock(second, two);
  ring.unlock(first, one);
  EXPECT_EQ(asked, 1);
}

TEST(Keys, ClearEntriesKeepNobodyOut) {
  SecretKey master = SecretKey::random();
  Id chain = random_id();
  std::vector<KeyEntry> keys{make_clear_entry(master)};
  EXPECT_FALSE(keeps_others_out(keys));
  KeyRing ring({});
  EXPECT_TRUE(ring.unlock(keys, chain) == master);
}

// Somebody plants a set into a known chain, with a way in of his own.
TEST(Keys, WhatOneListOfEntriesOpensIsNotTakenForAnother) {
  SecretKey ours = SecretKey::random(), theirs = SecretKey::random();
  Id chain = random_id();
  std::vector<KeyEntry> own{make_passphrase_entry(ours, chain, "tern in the fog", {8, 1})};
  std::vector<KeyEntry> planted{make_clear_entry(theirs)};
  std::vector<KeyEntry> closed{make_passphrase_entry(theirs, chain, "cuckoo", {8, 1})};
  KeyRing ring([] { return std::optional<SecretText>("tern in the fog"); });
  EXPECT_TRUE(ring.unlock(planted, chain) == theirs);
  EXPECT_TRUE(ring.unlock(own, chain) == ours) << "not the planter's";
  EXPECT_THROW(ring.unlock(closed, chain), Error) << "what does not open it is not helped by what is known";
  EXPECT_TRUE(ring.unlock(own, chain) == ours);
  ring.add(closed, chain, theirs);
  EXPECT_TRUE(ring.unlock(closed, chain) == theirs);
}

}  // namespace
}  // namespace kestrum::test
