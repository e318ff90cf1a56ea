// What fuzzing has found worth keeping is read in every test run, as it is and a little changed. The search
// itself is scripts/fuzz.
#include <gtest/gtest.h>

#include <filesystem>

#include "base/error.hpp"
#include "support/fuzz_targets.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {
namespace {

class FuzzCorpus : public testing::TestWithParam<const char*> {};

TEST_P(FuzzCorpus, EndsInAnAnswer) {
  const FuzzTarget* const target = fuzz_target(GetParam());
  ASSERT_NE(target, nullptr);
  std::vector<Bytes> inputs = fuzz_seeds(GetParam());
  ASSERT_FALSE(inputs.empty()) << "there is nothing to begin with";
  const std::string folder = std::string(KESTRUM_SOURCE) + "/tests/fuzz/corpus/" + GetParam();
  if (std::filesystem::exists(folder)) {
    for (const auto& one : std::filesystem::directory_iterator(folder)) {
      const std::string content = read_file(one.path());
      inputs.emplace_back(content.begin(), content.end());
    }
  }
  std::mt19937 random(18);
  int answers = 0, refused = 0;
  const auto read = [&](const Bytes& input) {
    try {
      target->run(input);
      ++answers;
    } catch (const Error&) {
      ++refused;
    }
  };
  for (const Bytes& input : inputs) {
    read(input);
    for (int change = 0; change < 20 && !input.empty(); ++change) {
      Bytes other = input;
      other[random() % other.size()] ^= static_cast<std::uint8_t>(1u << (random() % 8));
      if (change % 4 == 3) other.resize(random() % other.size());
      read(other);
    }
  }
  EXPECT_GT(answers, 0) << "nothing is taken for good";
  EXPECT_GT(refused, 0) << "nothing is refused";
}

std::vector<const char*> names() {
  std::vector<const char*> all;
  for (const FuzzTarget& target : fuzz_targets()) all.push_back(target.name);
  return all;
}
INSTANTIATE_TEST_SUITE_P(Targets, FuzzCorpus, testing::ValuesIn(names()), [](const auto& target) {
  std::string name = target.param;
  std::replace(name.begin(), name.end(), '-', '_');
  return name;
});

}  // namespace
}  // namespace kestrum::test
