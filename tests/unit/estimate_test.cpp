// Estimates keep the bounds that they state.
#include <gtest/gtest.h>

#include <cstring>
#include <random>
#include <set>

#include "base/run_control.hpp"
#include "engine/size_estimate.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {
namespace {

class Quiet final : public Observer {};

// What earlier sets hold.
class Held final : public KnownChunks {
 public:
  Held(const std::string& content, const Naming& naming) {
    const Cutter cutter(naming.key());
    ByteView rest = as_bytes(content);
    while (!rest.empty()) {
      const std::size_t length = cutter.cut(rest);
      names_.insert(naming.name(rest.first(length)));
      rest = rest.subspan(length);
    }
  }
  std::optional<Sequence> find(const ChunkName& name) override {
    return names_.contains(name) ? std::optional<Sequence>(1) : std::nullopt;
  }

 private:
  std::set<ChunkName> names_;
};

std::string noise(std::size_t bytes) {
  std::mt19937_64 random(7);
  std::string out(bytes, '\0');
  for (std::size_t at = 0; at + 8 <= bytes; at += 8) {
    const std::uint64_t word = random();
    std::memcpy(out.data() + at, &word, 8);
  }
  return out;
}

class Estimates : public testing::Test {
 protected:
  SizeEstimate of(const std::vector<std::string>& contents, KnownChunks* known) {
    SizeSampler sampler;
    int number = 0;
    for (const std::string& content : contents) {
      const std::string path = folder_ / std::to_string(number++);
      write_file(path, content);
      sampler.offer(*TreePath::parse(path), content.size());
    }
    return sampler.estimate(3, naming_, known, quiet_, control_);
  }
  TempFolder folder_;
  Naming naming_{SecretKey::random()};
  Quiet quiet_;
  RunControl control_;
};

constexpr std::size_t mib = 1u << 20;

// One place of a large file was changed: a run stores the chunks around it, one to three of them.
TEST_F(Estimates, OneChangeInALargeFile) {
  for (std::size_t size : {100 * mib, 400 * mib}) {
    std::string content = noise(size);
    Held held(content, naming_);
    content[size / 3] ^= 1;
    const SizeEstimate estimate = of({content}, &held);
    EXPECT_EQ(estimate.whole, size < 256 * mib);
    EXPECT_LE(estimate.least, 3 * mib) << size;
    EXPECT_GE(estimate.most, mib / 4) << size;
    EXPECT_LE(estimate.stored_bytes, estimate.whole ? 6 * mib : size / 16) << size;
    // No more than what the sample can have overlooked, and a chance hit.
    EXPECT_LE(estimate.most, size / 8) << size;
  }
}

// Copies count once where everything is looked at.
TEST_F(Estimates, CopiesCountOnce) {
  const std::string one = noise(9 * mib);
  const SizeEstimate estimate = of({one, one, one, one}, nullptr);
  ASSERT_TRUE(estimate.whole);
  EXPECT_NEAR(static_cast<double>(estimate.stored_bytes) / static_cast<double>(one.size()), 1, 0.1);
}

// What is all new is all stored, whichever way it is looked at.
TEST_F(Estimates, AllNew) {
  const std::string content = noise(60 * mib);
  Held nothing("", naming_);
  for (KnownChunks* known : {static_cast<KnownChunks*>(nullptr), static_cast<KnownChunks*>(&nothing)}) {
    const SizeEstimate estimate = of({content}, known);
    EXPECT_NEAR(static_cast<double>(estimate.stored_bytes) / static_cast<double>(content.size()), 1, 0.02);
  }
}

}  // namespace
}  // namespace kestrum::test
