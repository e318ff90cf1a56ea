// What the walk finds, compared with the catalog of the set that the new one builds on.
#pragma once

#include <functional>

#include "archive/catalog_reader.hpp"
#include "archive/chain_reader.hpp"
#include "source/walker.hpp"

namespace kestrum {

// The catalog of the base could not be read: the run must choose another base.
class BaseUnreadable : public Error {
 public:
  explicit BaseUnreadable(const Error& why) : Error(why) {}
};

enum class Change { added, changed, held };

struct Match {
  Change change = Change::added;
  std::optional<Entry> base;     // the entry compared with
  bool only_attributes = false;  // changed, but neither its size nor its time of modification
  bool lost = false;             // unchanged, but its stored content is damaged or missing
  std::string why;               // for "changed": what differs, in plain words
};

// Both sides come in the same order; each entry of the base is read once. References must outlive this.
class Comparison {
 public:
  // `known` learns the base's pages, so that unchanged ones are shared without reading an index.
  Comparison(PointReader& base, ChainChunks& known, const FilesystemTable& filesystems);

  Match match(const Walked& found);
  // Told of each entry of the base that is not found any more.
  void on_gone(std::function<void(const Entry&)> told) { on_gone_ = std::move(told); }
  // What the base has at that path and below it, as far as it was not matched, is neither found nor gone.
  void skip(const TreePath& path);
  // What is found is the folder that the base has, not another one in its place.
  bool is_same_folder(const Entry& base, const Walked& found) const;
  // Whether a new set may refer to the content of an entry of the base.
  bool content_is_there(const Entry& entry);
  // What the base has of a folder that is gone or no folder any more: below it everything is gone.
  void pass_inside(const TreePath& folder);
  // For runs that do not look at everything: gives out what the base has before `until` (nullptr: to its end)
  // and was not matched. Pages that were not read yet are offered whole first; where `page` says no, and for
  // the rest, `entry` gets them one by one. Neither is counted as gone: see gone().
  struct TakeOver {
    std::function<bool(const CatalogReader::PageAhead&)> page;
    std::function<void(Entry)> entry;
  };
  void take_over(const TreePath* until, const TakeOver& taker);
  // Of an entry from take_over() that is not there any more.
  void gone(const Entry& entry) { pass(entry); }
  // What was read one by one, of the base.
  const SetTotals& read() const { return read_; }
  // After the walk: passes over the rest of the base.
  void finish();
  std::uint64_t gone_files() const { return gone_; }
  // One that had several names of which one is gone; the others may be there.
  const std::optional<TreePath>& gone_name() const { return gone_name_; }

 private:
  void pass(const Entry& entry);
  // Passes all that comes before `path`; `waiting_` is then what comes next, or the base has ended.
  void pass_until(const TreePath& path);
  std::optional<Entry> next();
  std::optional<CatalogReader::PageAhead> page_ahead();

  PointReader& base_;
  ChainChunks& known_;
  const FilesystemTable& filesystems_;
  CatalogReader reader_;
  std::optional<Entry> waiting_;
  bool ended_ = false;
  std::uint64_t gone_ = 0;
  std::optional<TreePath> gone_name_;
  SetTotals read_;
  std::function<void(const Entry&)> on_gone_;
};

bool same_time(const Instant& a, const timespec& b);
EntryType type_of(const struct stat& status);
// Counted as what it is.
void count_entry(SetTotals& totals, const Entry& entry);

}  // namespace kestrum
