// A run that may be broken off and gone on with: what it writes down on the way, and what it finds written
// down by the one before.
#pragma once

#include <chrono>

#include "archive/chain_reader.hpp"
#include "archive/leftover.hpp"
#include "archive/set_writer.hpp"
#include "base/observer.hpp"
#include "source/filesystem_table.hpp"

namespace kestrum {

// Writes a journal now and then: after so much was read, and after so long.
class RunJournal {
 public:
  // `record`: the run's record so far. References must outlive this. `last`: number of the journal
  // that a run before has written last.
  // `least`: bytes read between two journals, at first.
  RunJournal(SetWriter& writer, const Id& set, std::uint64_t last, const PhaseTotals& expected,
             std::uint64_t least, std::function<Bytes()> record);

  // Told of each journal, from the thread that calls.
  void on_written(std::function<void(const JournalProgress&)> told) { told_ = std::move(told); }
  // So much is to be read next, which takes its time.
  void about_to_read(std::uint64_t bytes);
  // That file was read now, and the writer has all of it.
  void finished(const Entry& entry);
  // A file was gone through, read or not.
  void passed(std::uint64_t bytes);
  // What no journal tells yet.
  void write();

 private:
  using Steady = std::chrono::steady_clock;
  std::uint64_t step() const;
  SetWriter& writer_;
  Id set_{};
  std::uint64_t number_;
  std::uint64_t least_;
  JournalProgress progress_;
  std::function<Bytes()> record_;
  std::function<void(const JournalProgress&)> told_;
  JournalDraft draft_;
  std::uint64_t read_ = 0, unwritten_ = 0;  // bytes read in all, and of files that no journal tells
  Steady::time_point written_ = Steady::now();
};

// What the runs before have finished of the same set.
class BrokenRun {
 public:
  // References must outlive this. `known`: chunks of the sets that it builds on.
  BrokenRun(FinishedFiles files, Sequence sequence, ChainChunks& known, const FilesystemTable& filesystems)
      : files_(std::move(files)), sequence_(sequence), known_(known), filesystems_(filesystems) {}
  // The same file as `now` (without content), when it was read whole then and not changed since. Asked in the
  // order of a catalog.
  std::optional<Entry> finished(const Entry& now);

 private:
  bool is_there(const ChunkRef& ref) { return ref.sequence == sequence_ || known_.good(ref); }
  bool content_is_there(const Entry& entry);
  FinishedFiles files_;
  Sequence sequence_;
  ChainChunks& known_;
  const FilesystemTable& filesystems_;
};

}  // namespace kestrum
