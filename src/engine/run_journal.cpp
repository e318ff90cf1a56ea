#include "engine/run_journal.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// What is lost when a run is broken off: a sixty-fourth of what it read, within bounds.
constexpr std::uint64_t most_step = 256u << 20, share = 64;
constexpr std::chrono::seconds longest(20);
constexpr std::size_t most_draft = 1u << 20;  // bytes of entries

}  // namespace

RunJournal::RunJournal(SetWriter& writer, const Id& set, std::uint64_t last, const PhaseTotals& expected,
                       std::uint64_t least, std::function<Bytes()> record)
    : writer_(writer), set_(set), number_(last), least_(least), record_(std::move(record)) {
  progress_.expected_files = expected.files;
  progress_.expected_bytes = expected.bytes;
}

std::uint64_t RunJournal::step() const {
  return std::clamp(read_ / share, least_, std::max(least_, most_step));
}

void RunJournal::about_to_read(std::uint64_t bytes) {
  if (bytes >= step() || Steady::now() - written_ >= longest) write();
}

void RunJournal::finished(const Entry& entry) {
  read_ += entry.size;
  unwritten_ += entry.size;
  draft_.add(entry);
  if (unwritten_ >= step() || draft_.size() >= most_draft || Steady::now() - written_ >= longest) write();
}

void RunJournal::passed(std::uint64_t bytes) {
  ++progress_.files;
  progress_.bytes += bytes;
}

void RunJournal::write() {
  written_ = Steady::now();
  unwritten_ = 0;
  if (draft_.empty()) return;
  writer_.journal(draft_.take(set_, ++number_, progress_, record_()));
  if (told_) told_(progress_);
}

std::optional<Entry> BrokenRun::finished(const Entry& now) {
  std::optional<Entry> then = files_.find(now.path);
  if (!then || now.fresh) return std::nullopt;
  const bool same_file = !filesystems_.at(now.filesystem).stable_inodes() || then->inode == now.inode;
  const bool unchanged = then->type == now.type && then->size == now.size && then->modified == now.modified &&
                         then->changed == now.changed && then->filesystem == now.filesystem && same_file;
  if (!unchanged || then->several_names != now.several_names || !content_is_there(*then)) return std::nullopt;
  return then;
}

bool BrokenRun::content_is_there(const Entry& entry) {
  if (entry.attribute_chunk && !is_there(*entry.attribute_chunk)) return false;
  return std::all_of(entry.content.begin(), entry.content.end(), [&](const ContentItem& item) {
    if (item.kind == ItemKind::hole) return true;
    // What a list names was put, or found, before the list was.
    return is_there(item.ref()) && (item.kind != ItemKind::list || !known_.any_losses());
  });
}

}  // namespace kestrum
