#include "engine/comparison.hpp"

#include "archive/content_list.hpp"

namespace kestrum {

bool same_time(const Instant& a, const timespec& b) {
  return a.seconds == b.tv_sec && a.nanoseconds == b.tv_nsec;
}

EntryType type_of(const struct stat& status) {
  switch (status.st_mode & S_IFMT) {
    case S_IFDIR:
      return EntryType::folder;
    case S_IFLNK:
      return EntryType::symlink;
    case S_IFIFO:
      return EntryType::fifo;
    case S_IFCHR:
      return EntryType::char_device;
    case S_IFBLK:
      return EntryType::block_device;
    case S_IFSOCK:
      return EntryType::socket;
    default:
      return EntryType::file;
  }
}

void count_entry(SetTotals& totals, const Entry& entry) {
  if (entry.type == EntryType::folder) {
    ++totals.folders;
  } else if (entry.has_content()) {
    ++totals.files;
    totals.bytes += entry.size;
  } else {
    ++totals.others;
  }
}

Comparison::Comparison(PointReader& base, ChainChunks& known, const FilesystemTable& filesystems)
    : base_(base), known_(known), filesystems_(filesystems), reader_(base, base.set().root().catalog) {
  reader_.on_page([this](const ChunkRef& page) {
    if (known_.good(page)) known_.remember(page);
  });
}

std::optional<Entry> Comparison::next() {
  try {
    std::optional<Entry> entry = reader_.next();
    if (entry) count_entry(read_, *entry);
    return entry;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    throw BaseUnreadable(error);
  }
}

std::optional<CatalogReader::PageAhead> Comparison::page_ahead() {
  try {
    return reader_.page_ahead();
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    throw BaseUnreadable(error);
  }
}

void Comparison::pass(const Entry& entry) {
  if (entry.has_content()) ++gone_;
  if (entry.several_names && !gone_name_) gone_name_ = entry.path;
  if (on_gone_) on_gone_(entry);
}

bool Comparison::content_is_there(const Entry& entry) {
  bool good = !entry.attribute_chunk || known_.good(*entry.attribute_chunk);
  bool lists = false;
  for (const ContentItem& item : entry.content) {
    if (item.kind == ItemKind::hole) continue;
    good = good && known_.good(item.ref());
    lists = lists || item.kind == ItemKind::list;
  }
  if (!good || !lists || !known_.any_losses()) return good;
  try {
    auto look = [&](const ContentItem& item) {
      if (item.kind != ItemKind::hole && !known_.good(item.ref())) good = false;
    };
    walk_content(entry.content, base_, look, look);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage) throw;
    return false;
  }
  return good;
}

void Comparison::pass_until(const TreePath& path) {
  while (!ended_) {
    if (!waiting_) waiting_ = next();
    ended_ = !waiting_;
    if (ended_ || !(waiting_->path < path)) return;
    pass(*waiting_);
    waiting_.reset();
  }
}

Match Comparison::match(const Walked& found) {
  Match match;
  pass_until(found.path);
  if (!waiting_ || waiting_->path != found.path) return match;
  match.base = std::move(waiting_);
  waiting_.reset();
  const Entry& base = *match.base;
  const struct stat& now = found.status;
  match.change = Change::changed;
  if (found.device) {
    match.why = "a device is read every time: nothing tells whether it was changed";
  } else if (base.type != type_of(now)) {
    match.why = "it is of another type";
  } else if (!same_time(base.changed, now.st_ctim) || !same_time(base.modified, now.st_mtim)) {
    match.only_attributes =
        same_time(base.modified, now.st_mtim) &&
        (base.type != EntryType::file || base.size == static_cast<std::uint64_t>(now.st_size));
    match.why = match.only_attributes ? "its attributes were changed" : "its time differs";
  } else if (base.type == EntryType::file && base.size != static_cast<std::uint64_t>(now.st_size)) {
    match.why = "its size differs";
  } else if (base.filesystem != found.filesystem) {
    match.why = "it lies on another file system";
  } else if (base.inode != now.st_ino && filesystems_.at(found.filesystem).stable_inodes()) {
    match.why = "it is another file of the same name";
  } else if (base.fresh) {
    match.lost = !content_is_there(base);
    match.why = "it had been changed less than three seconds before it was read";
  } else if (base.changed_while_read) {
    match.why = "it was being changed when it was read";
  } else if (base.carried_from) {
    match.why = "it could not be read the last time";
  } else if (base.incomplete) {
    match.why = "it could not be read whole";
  } else if (base.several_names != (now.st_nlink > 1 && !S_ISDIR(now.st_mode))) {
    match.why = "its number of names changed";
  } else if (!content_is_there(base)) {
    match.lost = true;
    match.why = "a part of its stored content is damaged or missing";
  } else {
    match.change = Change::held;
  }
  return match;
}

void Comparison::skip(const TreePath& path) {
  pass_until(path);
  while (!ended_ && waiting_->path.is_within(path)) {
    waiting_ = next();
    ended_ = !waiting_;
  }
}

bool Comparison::is_same_folder(const Entry& base, const Walked& found) const {
  return base.type == EntryType::folder && base.filesystem == found.filesystem &&
         (base.inode == found.status.st_ino || !filesystems_.at(found.filesystem).stable_inodes());
}

void Comparison::pass_inside(const TreePath& folder) {
  while (!ended_) {
    if (!waiting_) waiting_ = next();
    ended_ = !waiting_;
    if (ended_ || !waiting_->path.is_within(folder)) return;
    pass(*waiting_);
    waiting_.reset();
  }
}

void Comparison::take_over(const TreePath* until, const TakeOver& taker) {
  while (!ended_) {
    if (!waiting_) {
      if (std::optional<CatalogReader::PageAhead> ahead = page_ahead()) {
        if (until != nullptr && !(ahead->link.first < *until)) return;
        const bool before = until == nullptr || (ahead->until && !(*until < *ahead->until));
        if (before && taker.page(*ahead)) {
          reader_.pass_page();
          continue;
        }
      }
      waiting_ = next();
      ended_ = !waiting_;
    }
    if (ended_ || (until != nullptr && !(waiting_->path < *until))) return;
    Entry entry = std::move(*waiting_);
    waiting_.reset();
    taker.entry(std::move(entry));
  }
}

void Comparison::finish() {
  if (ended_) return;
  if (waiting_) pass(*waiting_);
  waiting_.reset();
  while (std::optional<Entry> entry = next()) pass(*entry);
  ended_ = true;
}

}  // namespace kestrum
