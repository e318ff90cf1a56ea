// Random trees, random changes to them, and snapshots to compare with: written with plain system calls,
// sharing no code with what is tested.
#pragma once

#include <map>
#include <random>
#include <string>
#include <vector>

namespace kestrum::test {

// What one name is, as a person could see it.
struct Seen {
  char type = '?';  // f, d, l, p
  unsigned mode = 0;
  unsigned owner = 0;
  unsigned group = 0;
  long long seconds = 0;
  long nanoseconds = 0;
  std::string content;  // of files; the target of links
  std::vector<std::string> attributes;
  unsigned long links = 1;
  bool operator==(const Seen&) const = default;
};
using Snapshot = std::map<std::string, Seen>;

// Everything below `folder`, by relative path; the folder itself is "".
Snapshot take_snapshot(const std::string& folder);
// Differences in words, at most ten; empty when equal.
std::string compare_snapshots(const Snapshot& expected, const Snapshot& found);

// Does not compress, and says the same for the same seed.
std::string noise(unsigned seed, std::size_t size);

class TreeMaker {
 public:
  TreeMaker(std::string root, unsigned seed) : root_(std::move(root)), random_(seed) {}
  void grow(int things);
  // Adds, edits, deletes, renames, brings back, changes attributes.
  void churn(int steps);
  unsigned number(unsigned below) { return static_cast<unsigned>(random_() % below); }

 private:
  std::string new_name();
  std::string some_folder();
  std::string some_file();
  std::string some_content();
  void add_one();
  void edit_one();
  void drop_one();
  void scan();

  std::string root_;
  std::mt19937 random_;
  std::vector<std::string> files_;
  std::vector<std::string> folders_;
  std::map<std::string, std::string> dropped_;  // path to content, to be brought back
};

}  // namespace kestrum::test
