// Runs that go by what watching has told: what is looked at, what is taken over, what was missed.
#include "base/text.hpp"
#include "engine/set_run.hpp"

namespace kestrum {

void SetRun::go_by(const WatchedRun& watched, const SetTotals& base) {
  watched_ = &watched;
  base_totals_ = base;
  if (!watched.everything) only_ = &watched.changed;
}

Match SetRun::match(const Walked& found) {
  if (comparison_ == nullptr) return {};
  if (only_ != nullptr) take_over(&found.path);
  Match match = comparison_->match(found);
  if (only_ == nullptr) return match;
  const std::string place = printable(found.path.absolute());
  if (found.partly_listed) throw WatchDoubt{place + " could not be listed to its end"};
  const bool folder = S_ISDIR(found.status.st_mode);
  if (folder && !only_->is_whole(found.path) && !(found.maybe_shown && !match.base) &&
      !(match.base && comparison_->is_same_folder(*match.base, found)))
    throw WatchDoubt{place + " is another folder than before, and nothing told of it"};
  if (!folder && match.base && match.base->type == EntryType::folder) comparison_->pass_inside(found.path);
  check_names(found, match);
  return match;
}

// Other names of a file may lie where nothing happened.
void SetRun::check_names(const Walked& found, const Match& match) const {
  if (S_ISDIR(found.status.st_mode) || found.device) return;
  if (match.base && same_time(match.base->changed, found.status.st_ctim)) return;
  if (found.status.st_nlink > 1 || (match.base && match.base->several_names))
    throw WatchDoubt{printable(found.path.absolute()) +
                     " has several names, and the others may lie anywhere"};
}

void SetRun::take_over(const TreePath* until) {
  const Comparison::TakeOver taker{
      .page =
          [&](const CatalogReader::PageAhead& ahead) {
            if (!ahead.until || only_->may_touch(ahead.link.first, *ahead.until) || !add_page(ahead.link))
              return false;
            if (tally_ != nullptr) tally_->skipped_to(*ahead.until);
            return true;
          },
      .entry =
          [&](Entry entry) {
            control_.checkpoint();
            if (!only_->touches(entry.path)) return add(entry, Change::held);
            comparison_->gone(entry);
            if (entry.type == EntryType::folder) comparison_->pass_inside(entry.path);
          }};
  comparison_->take_over(until, taker);
}

bool SetRun::add_page(const PageLink& page) {
  control_.checkpoint();
  show_above(page.first);
  if (!catalog_.add_page(page)) return false;
  observer_.advanced(page.bytes, page.entries);
  return true;
}

// Folders that count only when something in them is taken: `path` is.
void SetRun::show_above(const TreePath& path) {
  if (maybe_shown_.empty()) return;
  for (auto& [entry, change] : std::exchange(maybe_shown_, {})) {
    if (path.is_within(entry.path)) add(entry, change);
  }
}

void SetRun::take_maybe_shown(const Walked& found, Match match) {
  while (!maybe_shown_.empty() && !found.path.is_within(maybe_shown_.back().first.path))
    maybe_shown_.pop_back();
  const bool as_before = match.change == Change::held && match.base->above_source;
  Entry entry = as_before ? *match.base : entry_of(found, match.base);
  maybe_shown_.emplace_back(std::move(entry), as_before ? Change::held : Change::changed);
}

// `changed`: when, by the file's word. What happened after the watching was asked is none of its faults.
void SetRun::note_untold(const TreePath& path, std::optional<Instant> changed) {
  if (watched_ == nullptr || only_ != nullptr || watched_->changed.touches(path)) return;
  // Files are dated by the tick of the clock before.
  constexpr std::int64_t slack_seconds = 2;
  if (changed && changed->seconds + slack_seconds >= watched_->told.seconds) return;
  if (++result_.untold <= most_told) result_.untold_paths.push_back(path.absolute());
}

void SetRun::note_gone(const Entry& entry) {
  if (gone_folder_ && entry.path.is_within(*gone_folder_)) return;
  if (entry.type == EntryType::folder) gone_folder_ = entry.path;
  // What was in a folder that is no folder any more, or another one, went with it.
  while (!above_.empty() && !entry.path.is_within(above_.back().first)) above_.pop_back();
  note_untold(entry.path, above_.empty() ? std::nullopt : std::optional(above_.back().second));
}

// Behind what was found last.
void SetRun::take_over_rest() {
  take_over(nullptr);
  if (const std::optional<TreePath>& gone = comparison_->gone_name())
    throw WatchDoubt{printable(gone->absolute()) + " had several names, and the others may lie anywhere"};
  // What was taken over page by page was not counted: all of the base but what was read of it.
  const SetTotals& read = comparison_->read();
  result_.totals.files += base_totals_.files - read.files;
  result_.totals.folders += base_totals_.folders - read.folders;
  result_.totals.others += base_totals_.others - read.others;
  result_.totals.bytes += base_totals_.bytes - read.bytes;
}

}  // namespace kestrum
