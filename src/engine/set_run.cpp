#include "engine/set_run.hpp"

#include <fcntl.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <cerrno>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "source/walk_ahead.hpp"

namespace kestrum {
namespace {

Instant instant_of(const timespec& time) {
  return {time.tv_sec, static_cast<std::int32_t>(time.tv_nsec)};
}

bool same_to_a_person(const Entry& a, const Entry& b) {
  auto same_content = std::equal(a.content.begin(), a.content.end(), b.content.begin(), b.content.end(),
                                 [](const ContentItem& x, const ContentItem& y) {
                                   return x.kind == y.kind && x.length == y.length && x.name == y.name;
                                 });
  return same_content && a.type == b.type && a.size == b.size && a.mode == b.mode && a.owner == b.owner &&
         a.group == b.group && a.modified == b.modified && a.attributes == b.attributes &&
         a.incomplete == b.incomplete && a.carried_from == b.carried_from;
}

bool holds_data(const Entry& entry) {
  return std::any_of(entry.content.begin(), entry.content.end(),
                     [](const ContentItem& item) { return item.kind != ItemKind::hole; });
}

const Clock& system_clock() {
  static const SystemClock clock;
  return clock;
}

}  // namespace

SetRun::SetRun(const Selection& selection, FilesystemTable& filesystems, Comparison* comparison,
               EarlierPoint* earlier, ChunkSink& writer, const SecretKey& naming_key,
               const RunContext& context, std::vector<Problem>& problems)
    : selection_(selection),
      filesystems_(filesystems),
      comparison_(comparison),
      earlier_(earlier),
      writer_(writer),
      observer_(context.observer),
      control_(context.control),
      file_clock_(context.file_clock != nullptr ? *context.file_clock : system_clock()),
      problems_(problems),
      cutter_(naming_key),
      saver_(writer, cutter_, context.observer, context.control, context.read_pace),
      catalog_(writer, naming_key) {}

void SetRun::problem(const std::string& path, const std::string& operation, const std::string& reason) {
  add_problem(problems_, observer_, {path, operation, reason});
}

void SetRun::told_gone(const Entry& entry) {
  if (watched_ != nullptr && watched_->everything) note_gone(entry);
  if (tally_ != nullptr) tally_->gone(entry);
}

SetRunResult SetRun::run() {
  if (comparison_ != nullptr) comparison_->on_gone([this](const Entry& entry) { told_gone(entry); });
  WalkAhead walker(
      selection_, filesystems_, [this](const Problem& found) { add_problem(problems_, observer_, found); },
      [this](const std::string& text) { observer_.note(text); }, {}, only_);
  while (const Walked* found = walker.next()) {
    control_.checkpoint();
    take(*found);
  }
  carry_unseen(nullptr);
  if (sockets_ > most_told) observer_.note("so are " + grouped(sockets_ - most_told) + " more");
  if (only_ != nullptr) take_over_rest();
  if (comparison_ != nullptr) {
    comparison_->finish();
    result_.totals.gone_files = comparison_->gone_files();
  }
  result_.catalog = catalog_.finish();
  return result_;
}

void SetRun::take(const Walked& found) {
  carry_unseen(&found.path);
  if (!found.unlooked.empty()) {
    if (only_ != nullptr) take_over(&found.path);
    return take_unlooked(found);
  }
  Match match = this->match(found);
  if (found.maybe_shown) return take_maybe_shown(found, std::move(match));
  bool listed = !found.unlisted && !found.partly_listed;
  bool same_role = match.base && match.base->above_source == found.above_source && listed;
  if (match.change == Change::held && same_role) {
    if (match.base->has_content()) observer_.advanced(match.base->size, 1);
    add(*match.base, Change::held, &*match.base);
  } else {
    if (match.change == Change::held) match.change = Change::changed;
    Entry entry = entry_of(found, match.base);
    // Read again only to be sure, and found the same: not a change to tell anybody of.
    if (match.base && same_to_a_person(entry, *match.base)) match.change = Change::held;
    if (match.lost && match.change == Change::held && entry.has_content()) ++result_.saved_anew;
    // That a folder's own times differ is told by what happened in it.
    if (match.change != Change::held && entry.type != EntryType::folder)
      note_untold(entry.path, entry.changed);
    add(entry, match.change, match.base ? &*match.base : nullptr);
    if (!listed && earlier_ != nullptr) carry_inside(found);
  }
  if (!found.above_source && listed) result_.anything_read = true;
  if (watched_ == nullptr || only_ != nullptr || !S_ISDIR(found.status.st_mode)) return;
  while (!above_.empty() && !found.path.is_within(above_.back().first)) above_.pop_back();
  above_.emplace_back(found.path, instant_of(found.status.st_ctim));
}

void SetRun::add(const Entry& entry, Change change, const Entry* before) {
  const HeadLook head = std::exchange(head_, HeadLook::nothing);
  show_above(entry.path);
  if (tally_ != nullptr)
    tally_->found(entry, change == Change::held && before == nullptr ? &entry : before, head);
  count(entry, change);
  catalog_.add(entry);
  if (journal_ != nullptr && entry.has_content()) {
    if (std::exchange(read_now_, false)) journal_->finished(entry);
    journal_->passed(entry.size);
  }
  result_.carries = result_.carries || entry.carried_from;
  last_ = entry.path;
}

void SetRun::count(const Entry& entry, Change change) {
  SetTotals& totals = result_.totals;
  count_entry(totals, entry);
  if (!entry.has_content()) return;
  if (change == Change::added) ++totals.new_files;
  if (change == Change::changed) ++totals.changed_files;
}

void SetRun::set_status(Entry& entry, const struct stat& status, const Walked& found) {
  entry.type = found.device ? EntryType::device_image : type_of(status);
  entry.mode = status.st_mode & 07777;
  entry.owner = status.st_uid;
  entry.group = status.st_gid;
  entry.owner_name = owners_.user(status.st_uid);
  entry.group_name = owners_.group(status.st_gid);
  entry.modified = instant_of(status.st_mtim);
  entry.changed = instant_of(status.st_ctim);
  entry.size = entry.has_content() ? static_cast<std::uint64_t>(status.st_size) : 0;
  entry.filesystem = found.filesystem;
  entry.inode = status.st_ino;
  entry.several_names = entry.type != EntryType::folder && !found.device && status.st_nlink > 1;
  if (entry.type == EntryType::char_device || entry.type == EntryType::block_device) {
    entry.device_major = major(status.st_rdev);
    entry.device_minor = minor(status.st_rdev);
  }
  // By the clock that dates files, whatever clock the run was given: the question is whether another change
  // within the file system's time step could follow unseen. Where the status change time means nothing, the
  // modification counts.
  Instant limit = file_clock_.now();
  limit.seconds -= 3;
  entry.fresh =
      entry.changed > limit || (!filesystems_.at(found.filesystem).stable_inodes() && entry.modified > limit);
}

Entry SetRun::entry_of(const Walked& found, const std::optional<Entry>& base) {
  Entry entry;
  entry.path = found.path;
  entry.above_source = found.above_source;
  set_status(entry, found.status, found);
  entry.incomplete = found.unlisted || found.partly_listed;
  switch (entry.type) {
    case EntryType::file:
    case EntryType::device_image:
      observer_.file_begins(found.path.absolute(), entry.size);
      if (take_from_other_name(entry) || (!found.device && take_from_broken_run(entry))) {
        observer_.advanced(entry.size, 0);
      } else {
        read_or_carry(found, entry);
      }
      remember_name(entry);
      observer_.advanced(0, 1);
      return entry;
    case EntryType::symlink:
      if (std::optional<std::string> target = read_link_target(found.folder->get(), found.name)) {
        entry.link_target = *target;
      } else {
        entry.incomplete = true;
        std::string why = system_reason(errno);
        if (carry_on(found, entry)) why += "; it is kept as it was on " + local_text(*entry.carried_from);
        problem(found.path.absolute(), "read the link", why);
        if (entry.carried_from) return entry;
      }
      break;
    case EntryType::socket:
      if (++sockets_ <= most_told)
        observer_.note(printable(found.path.absolute()) +
                       " is a socket: noted, there is nothing to save in it");
      break;
    default:
      break;
  }
  bool unchanged = base && !base->fresh && base->changed == entry.changed && base->type == entry.type;
  if (unchanged && !entry.incomplete) {
    entry.attributes = base->attributes;
    if (!base->attribute_chunk) return entry;
  }
  if (!found.unlisted) read_attributes(found, found.own ? found.own->get() : -1, entry);
  return entry;
}

void SetRun::read_attributes(const Walked& found, int file_fd, Entry& entry) {
  FileHandle own;
  int fd = file_fd;
  if (fd < 0) {
    own = FileHandle(openat(found.folder->get(), found.name.c_str(), O_PATH | O_NOFOLLOW | O_CLOEXEC));
    fd = own.get();
  }
  auto attributes = fd < 0 ? std::nullopt : read_extended_attributes(fd);
  if (!attributes) {
    problem(found.path.absolute(), "read the attributes of", system_reason(errno));
    return;
  }
  entry.attributes.clear();
  std::size_t size = 0;
  for (auto& [name, value] : *attributes) {
    size += name.size() + value.size();
    entry.attributes.push_back({name, std::move(value)});
  }
  if (size <= 4096) return;
  ByteWriter chunk;
  write_attributes(chunk, entry.attributes);
  entry.attribute_chunk = writer_.put(FrameKind::catalog, chunk.view());
  entry.attributes.clear();
}

void SetRun::read_or_carry(const Walked& found, Entry& entry) {
  if (journal_ != nullptr) journal_->about_to_read(entry.size);
  std::string why;
  const bool whole = read_file(found, entry, why);
  read_now_ = whole && why.empty() && !found.device && !entry.fresh;
  if (!whole && !found.device && carry_on(found, entry))
    why += "; it is kept as it was on " + local_text(*entry.carried_from);
  else if (entry.incomplete && holds_data(entry))
    why += "; what could be read is saved, the rest is missing";
  if (!why.empty()) problem(found.path.absolute(), "read", why);
}

bool SetRun::take_from_broken_run(Entry& entry) {
  std::optional<Entry> then = before_ != nullptr ? before_->finished(entry) : std::nullopt;
  if (!then) return false;
  entry.content = std::move(then->content);
  entry.attributes = std::move(then->attributes);
  entry.attribute_chunk = then->attribute_chunk;
  return true;
}

bool SetRun::take_from_other_name(Entry& entry) const {
  if (!entry.several_names || !filesystems_.at(entry.filesystem).stable_inodes()) return false;
  auto read = names_.find({entry.filesystem, entry.inode});
  if (read == names_.end() || read->second.changed != entry.changed ||
      read->second.modified != entry.modified || read->second.size != entry.size)
    return false;
  entry.content = read->second.content;
  entry.attributes = read->second.attributes;
  entry.attribute_chunk = read->second.attribute_chunk;
  return true;
}

void SetRun::remember_name(const Entry& entry) {
  if (entry.several_names && !entry.incomplete && !entry.changed_while_read && !entry.carried_from &&
      names_.size() < most_remembered)
    names_.insert_or_assign({entry.filesystem, entry.inode}, entry);
}

bool SetRun::carry_on(const Walked& found, Entry& entry) {
  std::optional<Entry> kept =
      earlier_ != nullptr ? earlier_->leaf(found.path, found.filesystem) : std::nullopt;
  if (!kept || kept->type != entry.type) return false;
  entry = std::move(*kept);
  return true;
}

std::uint64_t SetRun::carry(const TreePath& path, bool with_itself, std::uint32_t filesystem) {
  std::uint64_t files = 0;
  auto take = [&](const Entry& entry) {
    control_.checkpoint();
    if (entry.has_content()) ++files;
    add(entry, Change::held);
  };
  with_itself ? earlier_->whole(path, filesystem, take) : earlier_->below(path, filesystem, take);
  if (comparison_ != nullptr) comparison_->skip(path);
  return files;
}

void SetRun::carry_inside(const Walked& folder) {
  if (folder.partly_listed) {
    broken_.push_back({folder.path, folder.filesystem, earlier_->children(folder.path), 0, 0});
  } else if (std::uint64_t files = carry(folder.path, false, folder.filesystem)) {
    problem(folder.path.absolute(), "look into", kept_text(files));
  }
}

std::string SetRun::kept_text(std::uint64_t files) const {
  if (files == 0) return {};
  return count_text(files, "file") + " below it " + (files == 1 ? "is" : "are") + " kept as the point of " +
         local_text(earlier_->started()) + " has " + (files == 1 ? "it" : "them");
}

void SetRun::take_unlooked(const Walked& found) {
  Problem told = found.problem();
  if (earlier_ != nullptr) {
    // Of a source that is gone, the folders above it may be gone too.
    std::vector<TreePath> above;
    for (TreePath up = found.path; !up.is_root() && !last_.is_within(up.parent());) {
      up = up.parent();
      above.push_back(up);
    }
    std::optional<Entry> leaf = earlier_->leaf(found.path, found.filesystem);
    for (; !above.empty(); above.pop_back())
      if (auto folder = earlier_->above(above.back(), found.filesystem)) add(*folder, Change::held);
    if (leaf) {
      if (comparison_ != nullptr) comparison_->skip(found.path);
      add(*leaf, Change::held);
      told.reason += "; it is kept as it was on " + local_text(*leaf->carried_from);
    } else if (std::uint64_t files = carry(found.path, true, found.filesystem)) {
      told.reason += "; " + kept_text(files);
    }
  }
  add_problem(problems_, observer_, told);
}

void SetRun::carry_unseen(const TreePath* next) {
  while (!broken_.empty()) {
    Broken& folder = broken_.back();
    bool inside = next != nullptr && next->is_within(folder.folder);
    for (; folder.at < folder.children.size(); ++folder.at) {
      const TreePath& child = folder.children[folder.at];
      bool seen = inside && next->is_within(child);
      folder.at += seen ? 1 : 0;
      if (seen || (inside && *next < child)) return;
      folder.files += carry(child, true, folder.filesystem);
    }
    if (inside) return;
    if (folder.files > 0) problem(folder.folder.absolute(), "look into", kept_text(folder.files));
    broken_.pop_back();
  }
}

bool SetRun::read_file(const Walked& found, Entry& entry, std::string& why) {
  constexpr int tries = 2;
  for (int attempt = 1; attempt <= tries; ++attempt) {
    std::optional<FileReader> file = found.device ? FileReader::open_device(found.folder->get(), found.name)
                                                  : FileReader::open(found.folder->get(), found.name);
    if (!file) {
      entry.incomplete = true;
      entry.content.clear();
      if (entry.size > 0) entry.content = {{ItemKind::hole, entry.size, {}, 0, 0}};
      bool vanished = errno == ENOENT;
      why = vanished ? "it vanished before it could be read" : system_reason(errno);
      return vanished;
    }
    set_status(entry, file->status(), found);
    FileSaver::Saved saved = saver_.save(*file);
    result_.totals.read_bytes += saved.bytes_read;
    entry.content = std::move(saved.content);
    head_ = saved.head;
    entry.incomplete = saved.code != 0;
    if (saved.code != 0) {
      why = system_reason(saved.code);
      return false;
    }
    entry.changed_while_read = saved.short_by_change || file->changed();
    if (!entry.changed_while_read || attempt == tries) {
      read_attributes(found, file->handle(), entry);
      break;
    }
  }
  if (entry.changed_while_read) {
    why = "it was changed while it was being read, twice; it is saved as it was then";
  }
  return true;
}

}  // namespace kestrum
