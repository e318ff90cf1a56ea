#include "engine/tree_compare.hpp"

#include <algorithm>
#include <set>
#include <tuple>

#include "base/text.hpp"
#include "engine/disk_side.hpp"
#include "engine/gap_list.hpp"
#include "engine/problem_list.hpp"
#include "engine/run_facts.hpp"
#include "engine/same_content.hpp"

namespace kestrum {
namespace {

constexpr std::size_t most_for_moves = 200000;

struct Pair {
  TreePath from, to;
};

// By what something is known again under another name.
class MoveFinder {
 public:
  // `by_content`: both sides tell it in the same names. `by_number`: numbers of files stay on that file
  // system.
  MoveFinder(bool by_content, std::function<bool(const Entry&)> by_number)
      : by_content_(by_content), by_number_(std::move(by_number)) {}

  void add(const Difference& one) {
    if (one.how != Differs::added && one.how != Differs::gone) return;
    if (count_++ >= most_for_moves) return;
    const Entry& entry = one.entry();
    auto& side = one.how == Differs::gone ? gone_ : added_;
    if (const std::optional<Digest> key = key_of(entry)) side.emplace(*key, entry.path);
    if (by_number_(entry))
      (one.how == Differs::gone ? gone_numbers_ : added_numbers_).emplace(number_of(entry), entry.path);
  }

  // What went to where, by the new path, and those that went, by the old one.
  void finish() {
    // The number is the surest; of several with one content, those of one name belong together.
    for (const auto& [number, from] : gone_numbers_) {
      const auto to = added_numbers_.find(number);
      if (to != added_numbers_.end()) join(from, to->second);
    }
    for (const bool same_name : {true, false}) {
      for (const auto& [key, from] : gone_) {
        const auto [first, last] = added_.equal_range(key);
        const auto to = std::find_if(first, last, [&](const auto& one) {
          return !from_.contains(one.second) && (!same_name || one.second.name() == from.name());
        });
        if (to != last && !to_.contains(from)) join(from, to->second);
      }
    }
  }

  const TreePath* from_of(const TreePath& to) const {
    const auto found = from_.find(to);
    return found == from_.end() ? nullptr : &found->second;
  }
  bool went(const TreePath& from) const { return to_.contains(from); }
  // The nearest folder above that moved too, and keeps the name below it.
  bool with_folder(const TreePath& to) const {
    const TreePath& from = from_.at(to);
    if (to.is_root() || from.is_root() || to.name() != from.name()) return false;
    const TreePath* const above = from_of(to.parent());
    return above != nullptr && *above == from.parent();
  }
  std::uint64_t moved_along(const TreePath& folder) const {
    std::uint64_t count = 0;
    for (auto one = from_.lower_bound(folder); one != from_.end() && one->first.is_within(folder); ++one) {
      if (!folders_.contains(one->first) && below_keeps(one->first, one->second, folder)) ++count;
    }
    return count;
  }
  void is_folder(const TreePath& to) { folders_.insert(to); }

 private:
  // A number may have been given out anew: a file must have its size and time too.
  using Number = std::tuple<std::uint32_t, std::uint64_t, EntryType, std::uint64_t, Instant>;
  static Number number_of(const Entry& entry) {
    const bool folder = entry.type == EntryType::folder;
    return {entry.filesystem, entry.inode, entry.type, entry.size, folder ? Instant{} : entry.modified};
  }

  bool below_keeps(const TreePath& to, const TreePath& from, const TreePath& folder) const {
    const TreePath* const origin = from_of(folder);
    return origin != nullptr && from.is_within(*origin) && from.below(*origin) == to.below(folder);
  }

  std::optional<Digest> key_of(const Entry& entry) const {
    if (!by_content_ || entry.type != EntryType::file || entry.size == 0) return std::nullopt;
    ByteWriter out;
    for (const ContentItem& item : entry.content) {
      out.varint(item.length);
      out.raw(item.name.bytes);
    }
    return digest(out.view());
  }

  void join(const TreePath& from, const TreePath& to) {
    from_.emplace(to, from);
    to_.emplace(from, to);
  }

  bool by_content_;
  std::function<bool(const Entry&)> by_number_;
  std::size_t count_ = 0;
  std::multimap<Digest, TreePath> gone_, added_;
  std::map<Number, TreePath> gone_numbers_, added_numbers_;
  std::map<TreePath, TreePath> from_, to_;
  std::set<TreePath> folders_;
};

std::vector<std::string> attributes_that_differ(const Entry& before, const Entry& now) {
  std::vector<std::string> out;
  if (before.mode != now.mode) out.emplace_back("mode");
  if (before.owner != now.owner) out.emplace_back("owner");
  if (before.group != now.group) out.emplace_back("group");
  if (before.modified != now.modified && now.type != EntryType::folder) out.emplace_back("time");
  if (out.empty()) out.emplace_back("extended attributes");
  return out;
}

// Goes through the differences three times: for what moved, for what that was before, and to tell.
class Comparing {
 public:
  using Each = std::function<void(const OnDifference&)>;
  Comparing(MoveFinder moves, const OnTreeChange& use) : moves_(std::move(moves)), use_(use) {}

  TreeComparison run(const Each& each) {
    each([&](const Difference& one) { moves_.add(one); });
    moves_.finish();
    std::map<TreePath, Entry> origins;
    each([&](const Difference& one) {
      if (one.how == Differs::gone && moves_.went(one.entry().path))
        origins[one.entry().path] = light(one.entry());
      const bool folder = one.entry().type == EntryType::folder;
      if (one.how == Differs::added && folder && moves_.from_of(one.entry().path) != nullptr)
        moves_.is_folder(one.entry().path);
    });
    each([&](const Difference& one) { tell(one, origins); });
    return std::move(result_);
  }

 private:
  static Entry light(Entry entry) {
    entry.content.clear();
    entry.attributes.clear();
    return entry;
  }

  void tell(const Difference& one, const std::map<TreePath, Entry>& origins) {
    const Entry& entry = one.entry();
    if (entry.above_source && entry.type == EntryType::folder) return;
    TreeChange change{one.how, light(entry), {}};
    if (one.before != nullptr && one.now != nullptr) change.before = light(*one.before);
    if (one.how == Differs::attributes) change.attributes = attributes_that_differ(*one.before, *one.now);
    if (one.how == Differs::gone && moves_.went(entry.path)) return;
    if (const TreePath* const from = one.how == Differs::added ? moves_.from_of(entry.path) : nullptr) {
      const auto origin = origins.find(*from);
      if (origin != origins.end()) {
        change.how = Differs::moved;
        change.before = origin->second;
        change.with_folder = moves_.with_folder(entry.path);
        if (entry.type == EntryType::folder) change.moved_along = moves_.moved_along(entry.path);
      }
    }
    count(change);
    use_(change);
  }

  void count(const TreeChange& change) {
    if (change.entry.type == EntryType::folder) {
      if (change.how == Differs::added || change.how == Differs::gone || change.how == Differs::moved)
        ++result_.folders;
      return;
    }
    ++result_.files[change.how];
    const std::uint64_t size = change.entry.size;
    if (change.how == Differs::added) result_.bytes_added += size;
    if (change.how == Differs::gone) result_.bytes_gone += size;
    if (change.how == Differs::changed) result_.bytes_changed += size;
  }

  MoveFinder moves_;
  const OnTreeChange& use_;
  TreeComparison result_;
};

// File systems of a point, by their ordinals; none where its record does not read.
std::vector<Filesystem> filesystems_of(OpenPoint& point) {
  try {
    return decode_run_record(point.reader().fetch(point.reader().set().root().record)).filesystems;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return {};
  }
}

bool stable_in(const std::vector<Filesystem>& all, std::uint32_t filesystem) {
  return filesystem < all.size() && all[filesystem].stable_inodes();
}

// The disk's side has no names of chunks: what is told of a file by its content is told by reading it.
class DiskDifference {
 public:
  DiskDifference(OpenPoint& point, const std::vector<Filesystem>& known, const Selection& selection,
                 const TreePath& within, RunControl& control)
      : point_(point), known_(known), selection_(selection), within_(within), control_(control) {}

  void each(const OnDifference& use, TreeComparison& result) {
    result.findings.clear();
    result.problems.clear();
    CatalogReader catalog = point_.catalog();
    catalog.seek(within_);
    DiskSide disk(selection_, known_, within_,
                  [&](const Problem& problem) { add_problem(result.problems, silent_, problem); });
    std::optional<Entry> before = next_of(catalog, result), now = disk.next();
    while (before || now) {
      control_.checkpoint();
      if (!now || (before && before->path < now->path)) {
        use({Differs::gone, &*before, nullptr});
        before = next_of(catalog, result);
      } else if (!before || now->path < before->path) {
        use({Differs::added, nullptr, &*now});
        now = disk.next();
      } else {
        if (const std::optional<Differs> how = differs(*before, *now, disk)) use({*how, &*before, &*now});
        before = next_of(catalog, result);
        now = disk.next();
      }
    }
  }

 private:
  std::optional<Entry> next_of(CatalogReader& catalog, TreeComparison& result) {
    while (true) {
      try {
        std::optional<Entry> entry = catalog.next();
        if (!entry || !entry->path.is_within(within_)) return std::nullopt;
        return entry;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        CatalogReader::Gap gap;
        const bool more = catalog.pass_damage(gap);
        result.findings.push_back(gap_text(gap.from, gap.until, error.what()));
        if (!more) return std::nullopt;
      }
    }
  }

  std::optional<Differs> differs(const Entry& before, const Entry& now, const DiskSide& disk) {
    const std::optional<Differs> how = difference(before, now, false);
    const bool maybe_same = before.type == EntryType::file && now.type == EntryType::file &&
                            before.size == now.size && before.changed != now.changed;
    if (!maybe_same) return how;
    const auto [known, is_new] = read_.try_emplace(before.path, false);
    if (is_new) {
      const FileHandle file = disk.open_last();
      known->second = file && same_content(point_.reader(), before, file.get(), control_);
    }
    if (!known->second) return Differs::changed;
    return how == Differs::changed ? Differs::attributes : how;
  }

  OpenPoint& point_;
  const std::vector<Filesystem>& known_;
  const Selection& selection_;
  const TreePath& within_;
  RunControl& control_;
  Observer silent_;
  std::map<TreePath, bool> read_;  // of the same size: whether the content is
};

}  // namespace

TreeComparison compare_points(OpenPoint& a, OpenPoint& b, const TreePath& within, RunControl& control,
                              const OnTreeChange& use) {
  const bool same_names = a.reader().naming().key() == b.reader().naming().key();
  const std::vector<Filesystem> filesystems = filesystems_of(b);
  const auto by_number = [&](const Entry& entry) {
    return entry.type == EntryType::folder && same_names && stable_in(filesystems, entry.filesystem);
  };
  Comparing comparing(MoveFinder(same_names, by_number), use);
  GapList gaps;
  std::uint64_t pages = 0;
  TreeComparison result = comparing.run([&](const OnDifference& told) {
    gaps = {};
    pages += each_difference(
        &a, b, {within, [&](const CatalogMerge::Gap& gap) { gaps.add({}, gap.from, gap.until, gap.reason); }},
        control, told);
  });
  result.findings = gaps.lines();
  result.pages_read = pages;
  return result;
}

TreeComparison compare_with_disk(OpenPoint& a, const Selection& selection, const TreePath& within,
                                 RunControl& control, const OnTreeChange& use) {
  const std::vector<Filesystem> known = filesystems_of(a);
  DiskDifference differences(a, known, selection, within, control);
  Comparing comparing(
      MoveFinder(false, [&](const Entry& entry) { return stable_in(known, entry.filesystem); }), use);
  TreeComparison looked;
  TreeComparison result = comparing.run([&](const OnDifference& told) { differences.each(told, looked); });
  result.findings = std::move(looked.findings);
  result.problems = std::move(looked.problems);
  return result;
}

}  // namespace kestrum
