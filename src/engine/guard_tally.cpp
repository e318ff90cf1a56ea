#include "engine/guard_tally.hpp"

#include <algorithm>

#include "archive/file_view.hpp"

namespace kestrum {
namespace {

std::uint64_t mark_of(std::string_view text) {
  return std::hash<std::string_view>()(text);
}

// The same for the same content; 0 for none.
std::uint64_t content_mark(const Entry& entry) {
  std::uint64_t mark = 0;
  for (const ContentItem& item : entry.content) {
    std::uint64_t part = item.length;
    if (item.kind != ItemKind::hole) part = ChunkNameHash()(item.name);
    mark = (mark << 7 | mark >> 57) ^ part;
  }
  return entry.size == 0 ? 0 : mark;
}

bool same_content(const Entry& a, const Entry& b) {
  return a.size == b.size && std::equal(a.content.begin(), a.content.end(), b.content.begin(),
                                        b.content.end(), [](const ContentItem& x, const ContentItem& y) {
                                          return x.kind == y.kind && x.length == y.length && x.name == y.name;
                                        });
}

// A file's last ending with its dot; empty without one.
std::string_view ending(std::string_view name) {
  const std::size_t dot = name.rfind('.');
  return dot == std::string_view::npos || dot == 0 ? std::string_view() : name.substr(dot);
}

// Of formats that all begin in a way of their own: under such a name nothing begins like noise; nor under one
// that says nothing.
bool begins_readably(std::string_view ending) {
  static constexpr std::string_view endings[] = {".jpg",  ".jpeg", ".png",  ".gif",  ".tif",   ".pdf", ".zip",
                                                 ".docx", ".xlsx", ".pptx", ".odt",  ".ods",   ".odp", ".mp3",
                                                 ".mp4",  ".mov",  ".wav",  ".flac", ".ogg",   ".csv", ".txt",
                                                 ".xml",  ".json", ".html", ".md",   ".sqlite"};
  return ending.empty() || std::find(std::begin(endings), std::end(endings), ending) != std::end(endings);
}

bool has(const std::vector<std::uint64_t>& sorted, std::uint64_t mark) {
  return std::binary_search(sorted.begin(), sorted.end(), mark);
}

}  // namespace

GuardTally::GuardTally(const GuardSetup& setup, ChainReader& chain, PointReader* base)
    : setup_(setup), point_(setup.is_base ? base : nullptr) {
  if (setup.is_base) return;
  try {
    own_.emplace(chain, setup.reference);
    reader_.emplace(*own_, own_->set().root().catalog);
    point_ = &*own_;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    reader_.reset();
  }
}

// Everything of the reference that comes before `path` is not there any more.
void GuardTally::advance_to(const TreePath* path) {
  while (reader_) {
    try {
      if (!waiting_) waiting_ = reader_->next();
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      reader_.reset();  // what cannot be read is compared no further
      waiting_.reset();
      return;
    }
    if (!waiting_ || (path != nullptr && !(waiting_->path < *path))) return;
    take_gone(*waiting_);
    waiting_.reset();
  }
}

void GuardTally::found(const Entry& entry, const Entry* before, HeadLook head) {
  std::optional<Entry> own;
  if (reader_) {
    advance_to(&entry.path);
    if (waiting_ && waiting_->path == entry.path) own = std::exchange(waiting_, std::nullopt);
    before = own ? &*own : nullptr;
  } else if (!setup_.is_base) {
    return;  // there is nothing to compare with any more
  }
  if (!entry.has_content()) {
    if (before != nullptr && before->has_content()) take_gone(*before);
    return;
  }
  if (before != nullptr && before->has_content()) {
    changed(entry, *before, head);
  } else {
    added(entry, head);
  }
}

void GuardTally::changed(const Entry& entry, const Entry& before, HeadLook head) {
  ending_of(entry.path, true);
  if (entry.carried_from || before.incomplete || same_content(entry, before)) return;
  ++counts_.changed;
  if (std::find(setup_.bait.begin(), setup_.bait.end(), entry.path) != setup_.bait.end()) {
    ++counts_.bait;
    example(entry.path);
  }
  if (entry.size == before.size && entry.modified == before.modified && !before.fresh &&
      !before.changed_while_read) {
    ++counts_.silent;
    example(entry.path);
  }
  if (head == HeadLook::nothing) return;
  ++counts_.heads;
  if (head != HeadLook::noise) return;
  ++counts_.noise;
  if (samples_.size() < most_samples) samples_.push_back(before);
  example(entry.path);
}

void GuardTally::added(const Entry& entry, HeadLook head) {
  if (entry.carried_from) return;
  ++counts_.added;
  if (added_.size() >= most_names) return;
  const std::string path = entry.path.absolute();
  const std::string_view more = ending(entry.path.name());
  const std::string_view without = std::string_view(path).substr(0, path.size() - more.size());
  Added one{.content = content_mark(entry), .ending = ending_of(entry.path, false), .head = head};
  if (!more.empty()) one.without_more = mark_of(without);
  added_.push_back(one);
}

void GuardTally::gone(const Entry& before) {
  if (setup_.is_base) take_gone(before);
}

void GuardTally::skipped_to(const TreePath& next) {
  if (!reader_) return;
  if (waiting_ && waiting_->path < next) waiting_.reset();
  try {
    if (!waiting_) reader_->seek(next);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    reader_.reset();
  }
}

void GuardTally::take_gone(const Entry& before) {
  if (!before.has_content()) return;
  ending_of(before.path, true);
  ++counts_.gone;
  if (std::find(setup_.bait.begin(), setup_.bait.end(), before.path) != setup_.bait.end()) {
    ++counts_.bait;
    example(before.path);
  }
  if (gone_paths_.size() >= most_names) return;
  const std::string path = before.path.absolute();
  gone_paths_.push_back(mark_of(path));
  if (const std::string_view more = ending(before.path.name()); !more.empty())
    gone_stems_.push_back(mark_of(std::string_view(path).substr(0, path.size() - more.size())));
  if (const std::uint64_t content = content_mark(before)) gone_contents_.push_back(content);
}

void GuardTally::example(const TreePath& path) {
  if (examples_.size() < most_examples) examples_.push_back(path.absolute());
}

std::uint32_t GuardTally::ending_of(const TreePath& path, bool before) {
  const std::string name(path.name());
  const std::string_view more = ending(name);
  auto place = ending_places_.find(more);
  if (place == ending_places_.end()) {
    place = ending_places_.emplace(std::string(more), static_cast<std::uint32_t>(endings_.size())).first;
    endings_.emplace_back();
  }
  endings_[place->second].before = endings_[place->second].before || before;
  return place->second;
}

// What begins like noise may have done so before: only what was readable counts.
void GuardTally::look_at_samples(GuardCounts& counts) {
  for (const Entry& before : samples_) {
    if (point_ == nullptr) return;
    try {
      Bytes head(head_size);
      head.resize(FileView(*point_, before).read_at(0, head));
      const HeadLook look = look_at_head(head);
      if (look == HeadLook::nothing) continue;
      ++counts.sampled;
      if (look != HeadLook::noise) ++counts.heads_gone;
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
  }
}

void GuardTally::match_names(GuardCounts& counts) {
  for (std::vector<std::uint64_t>* marks : {&gone_contents_, &gone_paths_, &gone_stems_})
    std::sort(marks->begin(), marks->end());
  std::vector<bool> readable_endings(endings_.size());
  for (const auto& [text, place] : ending_places_) readable_endings[place] = begins_readably(text);
  for (const Added& one : added_) {
    if (one.content != 0 && has(gone_contents_, one.content)) {
      ++counts.moved;
      continue;
    }
    // More of what this job has anyway is no evidence.
    const bool strange = !endings_[one.ending].before || readable_endings[one.ending];
    if (one.head == HeadLook::noise && strange) ++counts.added_noise;
    // A longer name in the place of the old one, or another ending; what begins as files of some format do is
    // a conversion, or a packing.
    const bool readable = one.head == HeadLook::known || one.head == HeadLook::text;
    const bool longer = one.without_more != 0 && has(gone_paths_, one.without_more) && !readable;
    const bool other =
        one.without_more != 0 && has(gone_stems_, one.without_more) && one.head == HeadLook::noise;
    if (!longer && !other) continue;
    ++counts.renamed;
    if (one.head == HeadLook::noise) ++counts.renamed_noise;
    if (!endings_[one.ending].before) ++endings_[one.ending].renamed;
  }
  for (const auto& [text, place] : ending_places_) {
    if (endings_[place].renamed <= counts.with_new_ending) continue;
    counts.with_new_ending = endings_[place].renamed;
    counts.new_ending = text;
  }
}

GuardCounts GuardTally::finish() {
  advance_to(nullptr);
  GuardCounts counts = counts_;
  if (!setup_.before.empty()) counts.files_before = setup_.before.back().files;
  look_at_samples(counts);
  match_names(counts);
  // Of more than that nobody can say what was moved and what is gone.
  if (added_.size() == most_names || gone_paths_.size() == most_names) counts.moved = counts.gone;
  return counts;
}

}  // namespace kestrum
