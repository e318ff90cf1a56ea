// What choosing costs: bench_selection FOLDER [ROUNDS]. Walks the folder by turns without any rule and with
// the usual list, a job's own patterns (some of which take back) and limits, in one process, and prints the
// ratio of the times: median, least, most.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>

#include "job/job_selection.hpp"
#include "source/walker.hpp"

namespace {

using namespace kestrum;

struct Walk {
  double seconds = 0;
  std::uint64_t things = 0;
};

Walk walk(const Selection& selection) {
  FilesystemTable filesystems;
  auto begun = std::chrono::steady_clock::now();
  Walker walker(
      selection, filesystems, [](const Problem&) {}, [](const std::string&) {});
  Walk result;
  while (walker.next() != nullptr) ++result.things;
  result.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
  return result;
}

void row(const char* name, const WhatToSave& rules, const Selection& plain, int rounds) {
  Selection chosen = select(rules, {}, SystemClock().now(), [](const std::string&) {});
  std::vector<double> ratios;
  std::uint64_t all = 0, taken = 0;
  for (int round = 0; round < rounds; ++round) {
    Walk first = walk(round % 2 == 0 ? plain : chosen);
    Walk second = walk(round % 2 == 0 ? chosen : plain);
    const Walk& without = round % 2 == 0 ? first : second;
    const Walk& with = round % 2 == 0 ? second : first;
    ratios.push_back(with.seconds / without.seconds);
    all = without.things;
    taken = with.things;
  }
  std::sort(ratios.begin(), ratios.end());
  fmt::print("{}: {} things, {} taken: {:.3f} of the plain walk's time ({:.3f} to {:.3f})\n", name, all,
             taken, ratios[ratios.size() / 2], ratios.front(), ratios.back());
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 2) return 2;
  int rounds = argc > 2 ? std::atoi(argv[2]) : 9;
  Selection plain = make_selection({argv[1]}, {}, [](const std::string&) {});
  walk(plain);  // what the system keeps of the tree is warm for both
  WhatToSave rules;
  rules.folders = {argv[1]};
  row("the usual list", rules, plain, rounds);
  // Patterns that take little out, so that the tree is walked all the same.
  for (int i = 0; i < 20; ++i) rules.skip.push_back("no-such-" + std::to_string(i) + "/");
  for (const char* pattern :
       {"*.part", "*.bak", "scratch-*/old", "/srv/**/raw/*.wav", "?raft", "!keep.part", "**/deep/**/x"})
    rules.skip.emplace_back(pattern);
  rules.skip_larger = std::uint64_t{1} << 40;
  rules.skip_older = Span{100, Span::Unit::year};
  row("27 patterns and limits besides", rules, plain, rounds);
  return 0;
}
