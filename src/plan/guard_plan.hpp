// Whether a run stands out so much that a person should look: a pure decision, by counts of the run and of
// those before it. docs/GUIDE.md, "A run that is suspect".
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/set_facts.hpp"

namespace kestrum {

// Of one run, against the newest point that nobody doubts. Files are those with content.
struct GuardCounts {
  std::uint64_t files_before = 0;
  std::uint64_t changed = 0;  // content is another
  std::uint64_t added = 0;
  std::uint64_t gone = 0;
  std::uint64_t moved = 0;          // of those gone, their content is there under another name
  std::uint64_t heads = 0;          // of those changed, that were looked at
  std::uint64_t noise = 0;          // of those, that begin like noise
  std::uint64_t sampled = 0;        // of those, whose beginning before was looked at
  std::uint64_t heads_gone = 0;     // of the sampled, that began as something readable
  std::uint64_t silent = 0;         // content is another, size and time of modification are not
  std::uint64_t renamed = 0;        // of those gone, in whose place another content has the name and more
  std::uint64_t renamed_noise = 0;  // of those, that begin like noise
  std::uint64_t added_noise = 0;    // of those added, that begin like noise under a name that tells otherwise
  std::string new_ending = {};      // of names; the one that came up most, of those not there before
  std::uint64_t with_new_ending = 0;
  std::uint64_t bait = 0;          // bait files that were changed or are gone
  std::uint64_t new_bytes = 0;     // content that was stored
  std::uint64_t stored_bytes = 0;  // that it takes
};

enum class Evidence : std::uint8_t {
  bait,           // a file that nobody has a reason to touch
  heads_gone,     // files that do not begin as they did
  renamed,        // files replaced by others with more to their names
  new_ending,     // the same, all with one ending that was not there before
  replaced,       // files gone, and about as many there that look like noise
  silent,         // content changed behind size and time
  gone,           // many files are gone
  changed,        // many files are changed
  incompressible  // much was changed, and what is new does not shrink as what was new before
};

struct EvidenceLine {
  Evidence what = Evidence::changed;
  std::uint64_t files = 0;
  std::string ending = {};
};

// Empty: it does not stand out. `before`: totals of the points that nobody doubts, oldest first.
std::vector<EvidenceLine> weigh_run(const GuardCounts& counts, const std::vector<SetTotals>& before);

// One word of it, for programs: "heads-gone".
const char* evidence_name(Evidence what);
std::optional<Evidence> parse_evidence(std::string_view name);
// "412 files do not begin as they did: they look encrypted"
std::string evidence_text(const EvidenceLine& line);

}  // namespace kestrum
