// What a run writes down of itself as it goes, so that a later one can go on where it was broken off:
// docs/FORMAT.md section 5.
#pragma once

#include "archive/catalog_entry.hpp"

namespace kestrum {

// How far a run has come in its sources.
struct JournalProgress {
  std::uint64_t files = 0, bytes = 0;
  std::uint64_t expected_files = 0, expected_bytes = 0;  // zeros: not known
};

struct Journal {
  Id set{};
  std::uint64_t number = 0;  // in its set, from 1
  JournalProgress progress;
  Bytes record;                // the run's record so far (section 7)
  std::vector<Entry> entries;  // files finished since the journal before, in the order of a catalog
};

// Gathers what the next journal tells. Bounded by whoever asks `size`.
class JournalDraft {
 public:
  // In the order of a catalog.
  void add(const Entry& entry);
  bool empty() const { return count_ == 0; }
  std::size_t size() const { return page_.size(); }  // bytes
  // The content of the frame; the draft is empty afterwards.
  Bytes take(const Id& set, std::uint64_t number, const JournalProgress& progress, ByteView record);

 private:
  ByteWriter page_;
  std::uint64_t count_ = 0;
  std::string last_;  // path, joined
};

// Throws Error of kind damage.
Journal decode_journal(ByteView content);

}  // namespace kestrum
