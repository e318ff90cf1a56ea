// The heart of a run: walk, compare, read what changed, write the catalog. Everything around it (which kind,
// where, sealing) is in backup.
#pragma once

#include <map>

#include "archive/catalog_writer.hpp"
#include "archive/set_writer.hpp"
#include "engine/comparison.hpp"
#include "engine/earlier_point.hpp"
#include "engine/file_saver.hpp"
#include "engine/guard_tally.hpp"
#include "engine/problem_list.hpp"
#include "engine/run_context.hpp"
#include "engine/run_journal.hpp"
#include "engine/watched_run.hpp"
#include "source/file_facts.hpp"

namespace kestrum {

struct SetRunResult {
  CatalogTop catalog;
  SetTotals totals;
  bool carries = false;        // something is as an earlier point has it
  bool anything_read = false;  // at least one file or folder of a source
  // Unchanged files that were read again because what is stored of them is damaged or missing.
  std::uint64_t saved_anew = 0;
  // What a look at everything found changed and watching had not told of.
  std::uint64_t untold = 0;
  std::vector<std::string> untold_paths;  // of the first
};

class SetRun {
 public:
  // References must outlive this. `comparison` may be nullptr: a full set. `earlier`: nullptr when there is
  // none.
  SetRun(const Selection& selection, FilesystemTable& filesystems, Comparison* comparison,
         EarlierPoint* earlier, ChunkSink& writer, const SecretKey& naming_key, const RunContext& context,
         std::vector<Problem>& problems);
  // There is a base, of these totals, all of which may be referred to. Unless everything is looked at all the
  // same, only what `watched` touches is; all else is taken over from the base. run() may throw WatchDoubt
  // then: look at everything.
  void go_by(const WatchedRun& watched, const SetTotals& base);
  // `journal`: told of what is finished. `before`: what need not be read again; nullptr: nothing was begun.
  void go_on(RunJournal& journal, BrokenRun* before) {
    journal_ = &journal;
    before_ = before;
  }
  // Told of all that is found and gone.
  void watch_over(GuardTally& tally) { tally_ = &tally; }
  SetRunResult run();

 private:
  void take(const Walked& found);
  Match match(const Walked& found);
  void take_maybe_shown(const Walked& found, Match match);
  // Only part is looked at: what the base has before `until` (nullptr: to its end) stays as it is, but for
  // what is gone.
  void take_over(const TreePath* until);
  void take_over_rest();
  bool add_page(const PageLink& page);
  void show_above(const TreePath& path);
  void check_names(const Walked& found, const Match& match) const;
  void note_untold(const TreePath& path, std::optional<Instant> changed);
  void note_gone(const Entry& entry);
  Entry entry_of(const Walked& found, const std::optional<Entry>& base);
  void read_or_carry(const Walked& found, Entry& entry);
  // A run that was broken off has read it, and it is as it was then.
  bool take_from_broken_run(Entry& entry);
  // False when it could not be read whole; `why` says it then.
  bool read_file(const Walked& found, Entry& entry, std::string& why);
  // In the place of what cannot be read, what the earlier point has of it. False when that has nothing.
  bool carry_on(const Walked& found, Entry& entry);
  // What the earlier point has at that path (or only below it) goes into the new set. Returns how many files.
  std::uint64_t carry(const TreePath& path, bool with_itself, std::uint32_t filesystem);
  // Of a folder that could not be listed, or not to its end.
  void carry_inside(const Walked& folder);
  std::string kept_text(std::uint64_t files) const;
  void take_unlooked(const Walked& found);
  // From folders whose listing broke off, what comes before `next` and was not seen; with nullptr, all.
  void carry_unseen(const TreePath* next);
  // Another name of a file that this run has read: takes its content over. False when there is none like it.
  bool take_from_other_name(Entry& entry) const;
  void remember_name(const Entry& entry);
  void read_attributes(const Walked& found, int file_fd, Entry& entry);
  void set_status(Entry& entry, const struct stat& status, const Walked& found);
  void count(const Entry& entry, Change change);
  // `before`: what the base has of it.
  void add(const Entry& entry, Change change, const Entry* before = nullptr);
  void told_gone(const Entry& entry);
  void problem(const std::string& path, const std::string& operation, const std::string& reason);

  const Selection& selection_;
  FilesystemTable& filesystems_;
  Comparison* comparison_;
  EarlierPoint* earlier_;
  ChunkSink& writer_;
  Observer& observer_;
  RunControl& control_;
  const Clock& file_clock_;
  std::vector<Problem>& problems_;
  Cutter cutter_;
  FileSaver saver_;
  CatalogWriter catalog_;
  OwnerNames owners_;
  // Files with several names that were read, by file system and inode.
  static constexpr std::size_t most_remembered = 100000;
  std::map<std::pair<std::uint32_t, std::uint64_t>, Entry> names_;
  // Folders whose listing broke off and that the walk is in now, and what the earlier point has in them.
  struct Broken {
    TreePath folder;
    std::uint32_t filesystem = 0;
    std::vector<TreePath> children;
    std::size_t at = 0;
    std::uint64_t files = 0;  // kept so far
  };
  std::vector<Broken> broken_;
  // Of a run that goes by what watching told.
  const WatchedRun* watched_ = nullptr;
  const ChangedFolders* only_ = nullptr;  // looked at; nullptr: everything is
  SetTotals base_totals_;
  std::vector<std::pair<Entry, Change>> maybe_shown_;  // each within the one before
  std::vector<std::pair<TreePath, Instant>>
      above_;  // folders that the walk is in, and when they were changed
  std::optional<TreePath> gone_folder_;
  TreePath last_;  // the path added last
  RunJournal* journal_ = nullptr;
  BrokenRun* before_ = nullptr;
  bool read_now_ = false;  // the entry at hand, whole, from the disk
  GuardTally* tally_ = nullptr;
  HeadLook head_ = HeadLook::nothing;  // of the entry at hand
  static constexpr std::uint64_t most_told = 3;
  std::uint64_t sockets_ = 0;
  SetRunResult result_;
};

}  // namespace kestrum
