// Parity: whatever is within its promise comes back bit for bit, and beyond it nothing is made up.
#include "archive/parity.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

#include "base/error.hpp"
#include "store/forwarding_store.hpp"
#include "support/memory_store.hpp"
#include "support/tree.hpp"

namespace kestrum::test {
namespace {

using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

constexpr std::size_t slice = parity_slice;

// A file with its parity, in a store.
class ParityCase {
 public:
  ParityCase(std::size_t size, unsigned percent, unsigned seed = 7) : random_(seed) {
    const std::string text = noise(seed, size);
    good = Bytes(text.begin(), text.end());
    of.slot = of.number = 3;
    of.name = "data-003.kvol";
    of.set = id_;
    of.size = size;
    of.digest = digest(good);
    put("set/" + of.name, good);
    sealed = make_parity(store, "set", job_, of, percent);
    parity = store.read_all("set/mend-003.kmend", UINT32_MAX);
  }
  void put(const std::string& path, const Bytes& content) {
    store.remove(path);
    const auto file = store.create(path);
    file->append(content);
    file->finish();
  }
  ParityReader reader() { return ParityReader(store, "set/mend-003.kmend", job_, of, sealed); }
  // What becomes of the damaged file; `beyond`: slices that stay lost.
  Bytes mended(const Bytes& damaged, std::size_t* beyond = nullptr) {
    put("set/" + of.name, damaged);
    const auto file = store.open("set/" + of.name);
    const ParityReader parity_file = reader();
    const SliceDamage damage = parity_file.look(file.get());
    if (beyond != nullptr) *beyond = damage.beyond.size();
    Bytes out = damaged;
    out.resize(good.size());
    for (const auto& [at, content] : parity_file.mend(file.get(), damage))
      std::copy(content.begin(), content.end(), out.begin() + static_cast<std::ptrdiff_t>(at * slice));
    return out;
  }
  std::size_t below(std::size_t limit) {
    return std::uniform_int_distribution<std::size_t>(0, limit - 1)(random_);
  }

  MemoryStore store;
  SealedFile of;
  SealedParity sealed;
  Bytes good, parity;

 private:
  Id id_{1, 2, 3}, job_{4, 5};
  std::mt19937_64 random_;
};

TEST(Parity, ShapesKeepTheirShareAndFit) {
  for (const std::uint64_t bytes :
       {std::uint64_t{1}, std::uint64_t{4096}, std::uint64_t{4097}, std::uint64_t{700000},
        std::uint64_t{64} << 20, std::uint64_t{1} << 30, std::uint64_t{50} << 30}) {
    for (const unsigned percent : {1u, 2u, 5u, 7u, 10u, 20u, 33u, 50u}) {
      const ParityShape shape = parity_shape(bytes, percent);
      SCOPED_TRACE(std::to_string(bytes) + " bytes, " + std::to_string(percent) + " %");
      EXPECT_TRUE(shape.fits(bytes));
      EXPECT_LE(shape.k + shape.m, 255u);
      const double share = static_cast<double>(shape.groups) * shape.m * slice / static_cast<double>(bytes);
      EXPECT_GE(share, percent / 100.0);
      if (bytes > 1u << 20) {
        EXPECT_LE(share, percent / 100.0 * 1.25);
      }
    }
  }
}

TEST(Parity, WholeFilesAreWhole) {
  for (const std::size_t size : {std::size_t{1}, slice - 1, slice, slice + 1, 40 * slice + 5, 700 * slice}) {
    ParityCase one(size, 5);
    EXPECT_EQ(one.parity.size(), one.sealed.shape.file_bytes(size));
    EXPECT_THAT(one.reader().check(), IsEmpty());
    const auto file = one.store.open("set/" + one.of.name);
    EXPECT_THAT(one.reader().look(file.get()).slices, IsEmpty());
  }
}

// Fed in pieces of any size it is the same.
TEST(Parity, IsMadeWhileTheFileIsWritten) {
  ParityCase one(500 * slice + 77, 10);
  ParityMaker maker(one.sealed.shape);
  for (std::size_t at = 0; at < one.good.size();) {
    const std::size_t part = std::min(one.below(3 * slice) + 1, one.good.size() - at);
    maker.add(ByteView(one.good).subspan(at, part));
    at += part;
  }
  one.store.remove("set/mend-003.kmend");
  maker.finish(one.store, "set/mend-003.kmend", Id{4, 5}, one.of);
  const Bytes again = one.store.read_all("set/mend-003.kmend", UINT32_MAX);
  // All but the header's salt, and the digest that covers it.
  EXPECT_TRUE(
      std::equal(again.begin() + 96, again.end() - 32, one.parity.begin() + 96, one.parity.end() - 32));
}

// A store that shows a file only once it is whole.
class WholeFiles final : public ForwardingStore {
 public:
  explicit WholeFiles(Store& below) : ForwardingStore(below) {}
  StoreTraits traits() const override { return {.appends = false}; }
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override {
    if (!whole) throw Error(ErrorKind::failed, path + " is not there yet");
    return ForwardingStore::try_open(path);
  }
  bool whole = false;
};

// Planned for a large file: one that ends earlier has the share all the same, and the same promise.
TEST(Parity, GrowsWithAFileWhateverItEndsAt) {
  constexpr std::size_t largest = 3000 * slice;
  for (const unsigned percent : {2u, 5u, 20u}) {
    for (const std::size_t size : {std::size_t{1}, 374 * slice, 375 * slice, 800 * slice + 5, 1001 * slice,
                                   1700 * slice + 1, 2999 * slice, largest, largest + 40 * slice}) {
      SCOPED_TRACE(std::to_string(size) + " bytes, " + std::to_string(percent) + " %");
      ParityCase one(size, percent);
      const auto grown = [&](Store& store, const std::function<void()>& end) {
        one.store.remove("set/" + one.of.name);
        one.store.remove("set/mend-003.kmend");
        GrowingParity growing(store, "set/" + one.of.name, largest, percent);
        const auto file = one.store.create("set/" + one.of.name);
        for (std::size_t at = 0; at < size;) {
          const std::size_t part = std::min(one.below(60 * slice) + 1, size - at);
          file->append(ByteView(one.good).subspan(at, part));
          growing.add(ByteView(one.good).subspan(at, part));
          at += part;
        }
        file->finish();
        end();
        one.sealed = growing.finish(Id{4, 5}, one.of);
      };
      WholeFiles late(one.store);
      grown(late, [&] { late.whole = true; });
      const ParityShape otherwise = one.sealed.shape;
      grown(one.store, [] {});
      const ParityShape shape = one.sealed.shape;
      if (size >= largest / 8) {
        EXPECT_EQ(shape, otherwise);
      }
      const double share = static_cast<double>(shape.groups) * shape.m * slice / static_cast<double>(size);
      EXPECT_GE(share, percent / 100.0);
      if (size > slice) {
        EXPECT_LE(share, percent / 100.0 * 2.1);
      }
      EXPECT_THAT(one.reader().check(), IsEmpty());
      const std::size_t run = std::min<std::size_t>(std::size_t{shape.groups} * shape.m, parity_slices(size));
      const std::size_t first = one.below(parity_slices(size) - run + 1);
      Bytes damaged = one.good;
      std::fill(damaged.begin() + static_cast<std::ptrdiff_t>(first * slice),
                damaged.begin() + static_cast<std::ptrdiff_t>(std::min(size, (first + run) * slice)), 0xEE);
      EXPECT_EQ(one.mended(damaged), one.good);
    }
  }
}

TEST(Parity, AnyRunWithinItsPromiseComesBack) {
  ParityCase one(900 * slice + 100, 5);
  const std::size_t promised = std::size_t{one.sealed.shape.m} * one.sealed.shape.groups;
  for (int trial = 0; trial < 60; ++trial) {
    Bytes damaged = one.good;
    const std::size_t first = one.below(damaged.size() / slice - promised);
    for (std::size_t i = first * slice; i < (first + promised) * slice; ++i) damaged[i] ^= 0x5a;
    std::size_t beyond = 1;
    ASSERT_EQ(one.mended(damaged, &beyond), one.good) << first;
    EXPECT_EQ(beyond, 0u);
  }
  // One slice more is beyond it, and only the groups that lost too many stay as they are.
  Bytes damaged = one.good;
  for (std::size_t i = 0; i < (promised + 1) * slice; ++i) damaged[i] ^= 0x5a;
  std::size_t beyond = 0;
  const Bytes mended = one.mended(damaged, &beyond);
  EXPECT_EQ(beyond, one.sealed.shape.m + 1);
  std::size_t wrong = 0;
  for (std::size_t at = 0; at < mended.size(); at += slice)
    wrong += std::memcmp(&mended[at], &one.good[at], std::min(slice, mended.size() - at)) != 0 ? 1 : 0;
  EXPECT_EQ(wrong, beyond);
}

TEST(Parity, AnySlicesOfAGroupComeBackAsManyAsItHas) {
  ParityCase one(700 * slice, 5);
  const ParityShape& shape = one.sealed.shape;
  for (int trial = 0; trial < 100; ++trial) {
    Bytes damaged = one.good;
    for (std::uint32_t group = 0; group < shape.groups; ++group) {
      for (std::uint32_t lost = 0; lost < shape.m; ++lost) {
        const std::size_t at = (one.below(700 / shape.groups) * shape.groups + group) * slice;
        damaged[at + one.below(slice)] ^= static_cast<std::uint8_t>(1u << one.below(8));
      }
    }
    ASSERT_EQ(one.mended(damaged), one.good);
  }
}

TEST(Parity, ACutFileAndOneThatIsGoneAreMendedAsFarAsItGoes) {
  ParityCase one(600 * slice + 9, 20);
  const std::size_t promised = std::size_t{one.sealed.shape.m} * one.sealed.shape.groups * slice;
  for (const std::size_t cut : {std::size_t{1}, slice, promised / 2, promised - slice}) {
    Bytes damaged = one.good;
    damaged.resize(damaged.size() - cut);
    EXPECT_EQ(one.mended(damaged), one.good) << cut;
  }
  // Longer than it was: what is too much counts for nothing.
  Bytes damaged = one.good;
  damaged.resize(damaged.size() + 3 * slice, 0x77);
  EXPECT_EQ(one.mended(damaged), one.good);
  const ParityReader parity = one.reader();
  const SliceDamage gone = parity.look(nullptr);
  EXPECT_EQ(gone.slices.size(), 601u);
  EXPECT_EQ(gone.beyond, gone.slices);
  EXPECT_THAT(parity.mend(nullptr, gone), IsEmpty());
}

// Damage in the parity file as well: it counts for the group that it hits, and its lists stand twice.
TEST(Parity, DamageInTheParityItselfIsHeeded) {
  ParityCase one(400 * slice, 10);
  const ParityShape& shape = one.sealed.shape;
  const std::size_t lists = 8 * (400 + shape.groups * shape.m), slices = 160 + lists;
  Bytes damaged = one.good;
  damaged[7 * slice + 5] ^= 1;
  const auto with_parity = [&](const Bytes& parity) {
    one.put("set/mend-003.kmend", parity);
    return one.mended(damaged);
  };
  for (const std::size_t at : {std::size_t{3}, std::size_t{97}, std::size_t{170}, slices + 100,
                               slices + shape.groups * shape.m * slice + 8, one.parity.size() - 1}) {
    Bytes parity = one.parity;
    parity[at] ^= 0x40;
    EXPECT_EQ(with_parity(parity), one.good) << at;
    EXPECT_THAT(one.reader().check(), testing::Not(IsEmpty())) << at;
  }
  // A whole list gone: the other one serves.
  for (const std::size_t list : {std::size_t{160}, slices + shape.groups * shape.m * slice}) {
    Bytes parity = one.parity;
    std::fill_n(parity.begin() + static_cast<std::ptrdiff_t>(list), lists, std::uint8_t{0});
    EXPECT_EQ(with_parity(parity), one.good);
  }
  // All rows of the damaged group but one gone: one is enough for one slice; none is not.
  const std::size_t group = 7 % shape.groups;
  Bytes parity = one.parity;
  for (std::uint32_t row = 0; row + 1 < shape.m; ++row) parity[slices + (group * shape.m + row) * slice] ^= 1;
  EXPECT_EQ(with_parity(parity), one.good);
  parity[slices + (group * shape.m + shape.m - 1) * slice] ^= 1;
  EXPECT_EQ(with_parity(parity), damaged);
}

TEST(Parity, OneOfAnotherFileIsNoHelp) {
  ParityCase one(300 * slice, 10), other(300 * slice, 10, 8);
  Bytes damaged = one.good;
  damaged[5 * slice] ^= 1;
  one.put("set/mend-003.kmend", other.parity);
  std::size_t beyond = 0;
  EXPECT_EQ(one.mended(damaged, &beyond), damaged);
  EXPECT_EQ(beyond, 300u) << "nothing fits it";
  EXPECT_THAT(one.reader().check(), testing::Contains(HasSubstr("its head does not say what it belongs to")));
}

TEST(Parity, WhatTheSealSaysMustFit) {
  ParityCase one(300 * slice, 10);
  for (const ParityShape& shape :
       {ParityShape{0, 1, 1}, ParityShape{250, 6, 9}, ParityShape{1, 1, 1}, ParityShape{}}) {
    SealedParity wrong = one.sealed;
    wrong.shape = shape;
    EXPECT_THROW(ParityReader(one.store, "set/mend-003.kmend", Id{4, 5}, one.of, wrong), Error);
  }
}

}  // namespace
}  // namespace kestrum::test
