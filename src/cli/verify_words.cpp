#include "cli/verify_words.hpp"

#include <map>

#include "base/text.hpp"
#include "cli/print.hpp"
#include "rules/keep_rules.hpp"

namespace kestrum {

// A file mostly is affected at several points in the same way: told once.
void print_affected(const VerifyResult& result) {
  constexpr std::size_t most = 30;
  std::map<std::pair<std::string, std::string>, std::vector<Sequence>> files;
  bool more = false;
  for (const PointVerdict& verdict : result.points) {
    for (const AffectedFile& file : verdict.affected)
      files[{file.path, file.reason}].push_back(verdict.sequence);
    more = more || verdict.affected_count > verdict.affected.size();
  }
  if (files.empty()) return;
  out("\nWhat cannot be restored as it was:\n");
  std::size_t listed = 0;
  for (const auto& [file, points] : files) {
    if (++listed > most) break;
    out_lines("  {}: {} ({} {})\n", printable(file.first), file.second,
              points.size() == 1 ? "point" : "points", sequences_text(points));
  }
  if (more || files.size() > most) out("  and more; --json lists up to 1,000 for each point\n");
  out("Everything else can be restored. The next run saves these files anew, as far as the sources still "
      "have them.\n");
}

}  // namespace kestrum
