// Counts, while a run goes, how it differs from the newest point that nobody doubts: what the guard weighs.
#pragma once

#include <map>
#include <set>

#include "archive/catalog_reader.hpp"
#include "archive/chain_reader.hpp"
#include "base/head_look.hpp"
#include "plan/guard_plan.hpp"

namespace kestrum {

struct GuardSetup {
  Sequence reference = 0;  // the newest point that nobody doubts
  // The run is compared with it already. Else, of a set that builds on nothing or on an older one, its list
  // is read beside the walk.
  bool is_base = false;
  std::vector<TreePath> bait;
  std::vector<SetTotals> before;  // of the points that nobody doubts, oldest first
};

// One thread.
class GuardTally {
 public:
  // `base`: what the run is compared with; used where that is the reference. References must outlive it.
  GuardTally(const GuardSetup& setup, ChainReader& chain, PointReader* base);

  // Each entry of the new point that was looked at, in order. `before`: what the base has of it.
  void found(const Entry& entry, const Entry* before, HeadLook head);
  // What the base has and the new point has not.
  void gone(const Entry& before);
  // All that comes before `next` was taken over unseen.
  void skipped_to(const TreePath& next);
  // After the walk: looks at how some of those began that begin like noise now.
  GuardCounts finish();
  // Of what stands out, the first; absolute paths.
  const std::vector<std::string>& examples() const { return examples_; }

 private:
  struct Added {
    std::uint64_t content = 0;       // content_mark()
    std::uint64_t without_more = 0;  // mark of the path without the last ending; 0: it has none
    std::uint32_t ending = 0;        // place in endings_
    HeadLook head = HeadLook::nothing;
  };
  struct Ending {
    bool before = false;
    std::uint64_t renamed = 0;
  };
  void advance_to(const TreePath* path);
  void changed(const Entry& entry, const Entry& before, HeadLook head);
  void added(const Entry& entry, HeadLook head);
  void take_gone(const Entry& before);
  void example(const TreePath& path);
  std::uint32_t ending_of(const TreePath& path, bool before);
  void look_at_samples(GuardCounts& counts);
  void match_names(GuardCounts& counts);

  const GuardSetup& setup_;
  std::optional<PointReader> own_;       // of the reference, where the run is not compared with it
  std::optional<CatalogReader> reader_;  // of its list
  std::optional<Entry> waiting_;
  PointReader* point_;
  static constexpr std::size_t most_samples = 64, most_examples = 20;
  static constexpr std::size_t most_names = 500'000;  // of added and of gone files that are told apart
  std::vector<Entry> samples_;                        // as they were before
  std::vector<Added> added_;
  std::vector<std::uint64_t> gone_contents_, gone_paths_, gone_stems_;
  std::map<std::string, std::uint32_t, std::less<>> ending_places_;
  std::vector<Ending> endings_;
  std::vector<std::string> examples_;
  GuardCounts counts_;
};

}  // namespace kestrum
