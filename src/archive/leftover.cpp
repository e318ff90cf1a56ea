#include "archive/leftover.hpp"

#include <algorithm>
#include <charconv>

namespace kestrum {
namespace {

// Numbers of the volumes in a folder, in order.
std::vector<std::pair<std::uint32_t, std::uint64_t>> volumes_in(const Store& store,
                                                                const std::string& folder) {
  std::vector<std::pair<std::uint32_t, std::uint64_t>> found;
  for (const StoreEntry& entry : store.list(folder)) {
    if (entry.folder || !entry.name.ends_with(volume_ending)) continue;
    std::uint32_t number = 0;
    const std::size_t dash = entry.name.find('-');
    if (dash == std::string::npos) continue;
    std::from_chars(entry.name.data() + dash + 1, entry.name.data() + entry.name.size(), number);
    if (number > 0 && volume_file_name(number) == entry.name) found.emplace_back(number, entry.size);
  }
  std::sort(found.begin(), found.end());
  return found;
}

// One volume, frame by frame, as far as they authenticate.
class VolumeTaking {
 public:
  VolumeTaking(TakenLeftover& taken, const std::function<void(const std::vector<IndexRecord>&)>& chunks,
               const std::function<void(std::uint64_t)>& passed)
      : taken_(taken), chunks_(chunks), passed_(passed) {}

  // Bytes of it that are good, 0 for none. `whole`: all of them are.
  std::uint64_t take(const FrameFileReader& file, SealedFile sealed, bool& whole) {
    DigestStream digest;
    digest.update(file.header_bytes());
    std::uint64_t at = FileHeader::size;
    std::uint32_t ordinal = 0;
    try {
      while (at < file.size()) {
        const auto [place, head] = file.head_at(at);
        const FrameHead decoded = FrameHead::decode(head);
        // The end of a set that got no seal.
        if (decoded.ordinal != ordinal || decoded.kind == FrameKind::closing) break;
        take_frame(file, place, decoded.kind, sealed.number);
        digest.update(head);
        digest.update(file.tag_of(place));
        at += place.size;
        ++ordinal;
        passed_(place.size);
      }
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
    whole = at == file.size();
    if (ordinal == 0) return 0;
    sealed.size = at;
    sealed.digest = digest.finish();
    taken_.volumes.push_back(sealed);
    return at;
  }

 private:
  void take_frame(const FrameFileReader& file, FramePlace place, FrameKind kind, std::uint32_t volume) {
    if (kind == FrameKind::journal) return take_journal(file, place, volume);
    const PackedFrame frame = file.read_packed(place);
    std::vector<IndexRecord> records;
    records.reserve(frame.chunks.size());
    std::uint32_t offset = 0;
    for (const ListedChunk& chunk : frame.chunks) {
      records.push_back({chunk.name, volume, place, offset, chunk.length});
      offset += chunk.length;
    }
    taken_.content_bytes += offset;
    if (!records.empty()) chunks_(records);
  }
  void take_journal(const FrameFileReader& file, FramePlace place, std::uint32_t volume) {
    Journal journal = decode_journal(file.read(place).content);
    taken_.journals = std::max(taken_.journals, journal.number);
    taken_.progress = journal.progress;
    taken_.record = std::move(journal.record);
    if (journal.entries.empty()) return;
    if (taken_.rows.empty() || !(last_ < journal.entries.front().path)) taken_.rows.emplace_back();
    taken_.rows.back().push_back({volume, place});
    last_ = journal.entries.back().path;
  }

  TakenLeftover& taken_;
  const std::function<void(const std::vector<IndexRecord>&)>& chunks_;
  const std::function<void(std::uint64_t)>& passed_;
  TreePath last_;
};

SealedFile expected(const Leftover& leftover, std::uint32_t number, std::uint64_t size) {
  SealedFile file;
  file.slot = file.number = number;
  file.name = volume_file_name(number);
  file.set = leftover.mark.set;
  file.size = size;
  return file;
}

}  // namespace

std::optional<Leftover> find_leftover(const Store& store, const SetFolder& folder) {
  Leftover leftover{folder, {}, 0};
  try {
    for (const char* name : {seal_name, seal_copy_name}) {
      if (store.exists(folder.path + "/" + name)) return std::nullopt;
    }
    const std::string path = folder.path + "/" + open_name;
    std::optional<Bytes> text = store.try_read_all(path, limits::seal_file);
    if (!text) return std::nullopt;
    leftover.mark = decode_open_mark(std::move(*text), path);
  } catch (const Error& error) {
    if (is_of_the_system(error) && !does_not_read(error)) throw;
    return std::nullopt;
  }
  if (leftover.mark.sequence != folder.sequence) return std::nullopt;
  for (const auto& [number, size] : volumes_in(store, folder.path)) leftover.bytes += size;
  return leftover;
}

TakenLeftover take_leftover(Store& store, const Leftover& leftover, const SecretKey& master,
                            const std::function<void(const std::vector<IndexRecord>&)>& chunks,
                            const std::function<void(std::uint64_t)>& passed) {
  TakenLeftover taken;
  VolumeTaking taking(taken, chunks, passed);
  const std::string& folder = leftover.folder.path;
  bool going = true;
  std::uint32_t next = 1;
  for (const auto& [number, size] : volumes_in(store, folder)) {
    const std::string path = folder + "/" + volume_file_name(number);
    std::uint64_t good = 0;
    going = going && number == next++;
    if (going) {
      try {
        const SealedFile file = expected(leftover, number, size);
        good = taking.take(FrameFileReader(store, path, master, leftover.mark.job, file), file, going);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        going = false;
      }
    }
    taken.kept_bytes += good;
    taken.dropped_bytes += size - good;
    if (good == 0) {
      store.remove(path);
    } else {
      store.shorten(path, good);
    }
  }
  store.remove(folder + "/" + index_file_name);
  return taken;
}

FinishedFiles::FinishedFiles(const Store& store, const Leftover& leftover, const SecretKey& master,
                             const TakenLeftover& taken) {
  for (const SealedFile& file : taken.volumes)
    volumes_.try_emplace(file.number, store, leftover.folder.path + "/" + file.name, master,
                         leftover.mark.job, file);
  for (auto row = taken.rows.rbegin(); row != taken.rows.rend() && rows_.size() < most_rows; ++row)
    rows_.push_back({*row, 0, {}, 0});
}

void FinishedFiles::advance(Row& row, const TreePath& path) {
  while (true) {
    while (row.at < row.page.size() && row.page[row.at].path < path) ++row.at;
    if (row.at < row.page.size() || row.next == row.journals.size()) return;
    const JournalPlace& journal = row.journals[row.next++];
    row.at = 0;
    row.page = decode_journal(volumes_.at(journal.volume).read(journal.place).content).entries;
  }
}

std::optional<Entry> FinishedFiles::find(const TreePath& path) {
  std::optional<Entry> found;
  for (Row& row : rows_) {
    advance(row, path);
    if (!found && row.at < row.page.size() && row.page[row.at].path == path) found = row.page[row.at];
  }
  return found;
}

}  // namespace kestrum
