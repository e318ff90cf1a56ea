#include "archive/journal.hpp"

#include "archive/catalog_page.hpp"
#include "base/error.hpp"

namespace kestrum {
namespace {

constexpr std::uint8_t journal_version = 1;

}  // namespace

void JournalDraft::add(const Entry& entry) {
  write_entry(page_, entry, last_);
  last_ = entry.path.joined();
  ++count_;
}

Bytes JournalDraft::take(const Id& set, std::uint64_t number, const JournalProgress& progress,
                         ByteView record) {
  ByteWriter out;
  out.u8(journal_version);
  out.raw(set);
  out.varint(number);
  out.varint(progress.files);
  out.varint(progress.bytes);
  out.varint(progress.expected_files);
  out.varint(progress.expected_bytes);
  out.bytes(record);
  out.u8(1);  // a catalog page, of level 0
  out.u8(0);
  out.varint(count_);
  out.raw(page_.view());
  page_.clear();
  count_ = 0;
  last_.clear();
  return out.take();
}

Journal decode_journal(ByteView content) {
  ByteReader in(content);
  if (in.u8() != journal_version) throw damage("a journal has an unknown version");
  Journal journal;
  const ByteView set = in.raw(journal.set.size());
  std::copy(set.begin(), set.end(), journal.set.begin());
  journal.number = in.varint();
  journal.progress.files = in.varint();
  journal.progress.bytes = in.varint();
  journal.progress.expected_files = in.varint();
  journal.progress.expected_bytes = in.varint();
  journal.record = to_bytes(in.bytes(limits::chunk));
  CatalogPage page = decode_page(in.raw(in.remaining()));
  if (page.level != 0) throw damage("a journal holds no list of files");
  journal.entries = std::move(page.entries);
  return journal;
}

}  // namespace kestrum
