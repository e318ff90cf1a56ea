// What is known of one archive set without a key: shared by the archive layer, which reads it, and the plan
// layer, which decides by it.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "base/clock.hpp"
#include "base/random.hpp"

namespace kestrum {

enum class Kind { full, incremental, differential };
std::string_view kind_name(Kind kind);
std::optional<Kind> parse_kind(std::string_view name);

using Sequence = std::uint32_t;

struct SetNeed {
  Sequence sequence = 0;
  Id set{};
};

struct SetTotals {
  std::uint64_t files = 0;  // regular files
  std::uint64_t folders = 0;
  std::uint64_t others = 0;  // links, FIFOs, devices
  std::uint64_t bytes = 0;   // of regular files
  std::uint64_t new_files = 0;
  std::uint64_t changed_files = 0;
  std::uint64_t gone_files = 0;
  std::uint64_t read_bytes = 0;    // read from the sources
  std::uint64_t new_bytes = 0;     // content of chunks this set added
  std::uint64_t stored_bytes = 0;  // volumes and index on the drive
};

// A part of one file of a set, from the beginning of a frame to the end of one.
struct Stretch {
  std::uint32_t slot = 0;
  std::uint64_t from = 0, to = 0;
  std::uint64_t size() const { return to - from; }
};

// What of a set is known not to read: whole files, by slot (0 is the index), or single frames of one, by
// offset.
struct LostPlaces {
  std::set<std::uint32_t> slots;
  std::map<std::uint32_t, std::set<std::uint64_t>> frames;

  bool empty() const { return slots.empty() && frames.empty(); }
  bool covers(std::uint32_t slot, std::uint64_t offset) const;
  void add(const LostPlaces& other);
  // The places in that part of a file. A file that is lost as a whole stays so.
  void take_out(const Stretch& stretch);
  // "0 1:96 1:4096", and back; what does not parse is left out.
  std::string text() const;
  static LostPlaces parse(std::string_view text);
};

// What a person has said of a point: it stands in the seal's envelope, and wins over every rule.
struct Standing {
  enum class Is : std::uint8_t {
    by_rules,  // nothing was said
    kept,      // it stays
    given_up,  // it is no point any more, and goes as soon as nothing needs what is in it
  };
  Is is = Is::by_rules;
  std::string because;  // as the person wrote it, UTF-8
  Instant since;
  bool kept() const { return is == Is::kept; }
  bool given_up() const { return is == Is::given_up; }
};

// What the guard said of a point, and then a person: in the seal's envelope too.
enum class GuardMark : std::uint8_t { none, suspect, trusted, rejected };
std::string_view guard_name(GuardMark mark);

struct SetFacts {
  Sequence sequence = 0;
  std::optional<Sequence> folded_from;  // folded: the first sequence it covers; its own is the last
  Id chain{};
  Id set{};
  Kind kind = Kind::full;
  std::optional<Sequence> base;
  // Sets whose chunks may be referred to: all of them, or, with `needs_follow`, the first of them, each of
  // which brings along what it needs itself, less those in `without` (docs/FORMAT.md section 9).
  std::vector<SetNeed> needs;
  bool needs_follow = false;
  std::vector<Sequence> without;
  Instant started;
  Instant ended;
  std::int32_t offset_seconds = 0;  // of local time at the start, east of UTC
  SetTotals totals;
  std::uint64_t problems = 0;
  bool carries = false;  // some files could not be read and are as an earlier point has them
  Standing standing;
  GuardMark guard = GuardMark::none;

  // Nothing builds on it, and no rule counts it.
  bool doubted() const { return guard == GuardMark::suspect || guard == GuardMark::rejected; }
  Sequence covers_from() const { return folded_from.value_or(sequence); }
  // It is the set that a set of `other_chain` needs, or covers it: docs/FORMAT.md section 9.
  bool meets(const SetNeed& need, const Id& other_chain) const;
};

}  // namespace kestrum
