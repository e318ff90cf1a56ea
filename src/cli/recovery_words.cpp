#include "cli/recovery_words.hpp"

#include <algorithm>
#include <cctype>

#include "base/error.hpp"
#include "base/text.hpp"
#include "cli/asker.hpp"
#include "cli/print.hpp"

namespace kestrum {
namespace {

constexpr const char* group_help =
    "  On the paper stand nine groups of eight digits and letters from a to f. Type one group a line, or\n"
    "  several with blanks between; capitals do not matter. They are shown, so that you can compare.";

// The next groups from a line; nothing when one of them is none, which is said.
std::vector<std::string> groups_of(const std::string& line) {
  std::vector<std::string> groups;
  for (std::string word : split(line, ' ')) {
    if (word.empty()) continue;
    std::transform(word.begin(), word.end(), word.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    const bool hex = word.find_first_not_of("0123456789abcdef") == std::string::npos;
    if (!hex || word.size() != recovery_group_size) {
      out("  '{}' is no group: eight digits and letters from a to f.\n", printable(word));
      return {};
    }
    groups.push_back(word);
  }
  return groups;
}

}  // namespace

void show_recovery_groups(const RecoveryKey& key, const Environment& environment) {
  if (!environment.out_is_terminal()) return;
  out("\nWrite these nine groups on paper, and keep it away from this machine; they are not shown "
      "again:\n\n");
  const std::vector<std::string> groups = recovery_groups(key);
  for (std::size_t i = 0; i < groups.size(); i += 3) {
    out_lines("  ");
    for (std::size_t j = i; j < std::min(i + 3, groups.size()); ++j) out_lines("  {}: {}", j + 1, groups[j]);
    out_lines("\n");
  }
  out("\nThey open the sets with: --recovery-key ask\n");
}

RecoveryKey ask_recovery_key(const Environment& environment) {
  if (!environment.in_and_out_are_terminals())
    throw Error(ErrorKind::key, "there is nobody to ask for the recovery key: this is no terminal",
                "give --recovery-key FILE, with the groups in a file that only you can read");
  out("{}\n", group_help);
  Asker asker(environment.out_colour());
  std::vector<std::string> groups;
  while (groups.size() < recovery_group_count) {
    try {
      const std::string answer =
          asker.text("group " + std::to_string(groups.size() + 1) + " of 9", "", group_help);
      for (std::string& group : groups_of(answer)) groups.push_back(std::move(group));
    } catch (const WentBack&) {
      if (!groups.empty()) groups.pop_back();
    }
  }
  return parse_recovery_groups(join(groups, " "));
}

}  // namespace kestrum
