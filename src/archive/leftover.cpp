#include "archive/leftover.hpp"

#include <algorithm>
#include <charconv>

#include "archive/parity.hpp"

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

// Of one volume, what is good from its beginning on.
struct GoodPart {
  SealedFile sealed;  // size 0: nothing is
  std::vector<IndexRecord> chunks;
  std::uint64_t content_bytes = 0;
  struct Told {
    JournalPlace place;
    Journal journal;  // without its entries
    std::optional<TreePath> first, last;
  };
  std::vector<Told> journals;
};

void take_frame(const FrameFileReader& file, FramePlace place, FrameKind kind, GoodPart& part) {
  const std::uint32_t volume = part.sealed.number;
  if (kind == FrameKind::journal) {
    GoodPart::Told told{{volume, place}, decode_journal(file.read(place).content), {}, {}};
    const std::vector<Entry> entries = std::exchange(told.journal.entries, {});
    if (!entries.empty()) {
      told.first = entries.front().path;
      told.last = entries.back().path;
    }
    part.journals.push_back(std::move(told));
    return;
  }
  std::uint32_t offset = 0;
  for (const ListedChunk& chunk : file.read_packed(place).chunks) {
    part.chunks.push_back({chunk.name, volume, place, offset, chunk.length});
    offset += chunk.length;
  }
  part.content_bytes += offset;
}

// `sealed`: as its name and size say.
GoodPart good_part(const FrameFileReader& file, SealedFile sealed,
                   const std::function<void(std::uint64_t)>& passed) {
  GoodPart part;
  part.sealed = std::move(sealed);
  DigestStream digest;
  digest.update(file.header_bytes());
  std::uint64_t at = FileHeader::size;
  std::uint32_t ordinal = 0;
  try {
    for (; at < file.size(); ++ordinal) {
      const auto [place, head] = file.head_at(at);
      const FrameHead decoded = FrameHead::decode(head);
      // A closing frame is the end of a set that got no seal.
      if (decoded.ordinal != ordinal || decoded.kind == FrameKind::closing) break;
      // All of it is read before anything of it counts: what does not read is cut off.
      const auto tag = file.tag_of(place);
      take_frame(file, place, decoded.kind, part);
      digest.update(head);
      digest.update(tag);
      at += place.size;
      passed(place.size);
    }
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  part.sealed.size = ordinal == 0 ? 0 : at;
  part.sealed.digest = digest.finish();
  return part;
}

// Into the whole of what is taken; `last`: the path that the journals before have come to.
void add_part(GoodPart part, TakenLeftover& taken, std::optional<TreePath>& last) {
  for (GoodPart::Told& told : part.journals) {
    taken.journals = std::max(taken.journals, told.journal.number);
    taken.record = std::move(told.journal.record);
    if (!told.first) continue;
    if (!last || !(*last < *told.first)) taken.rows.emplace_back();
    taken.rows.back().push_back(told.place);
    last = told.last;
  }
  taken.content_bytes += part.content_bytes;
  taken.volumes.push_back(std::move(part.sealed));
}

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
    if (is_of_the_system(error)) throw;
    return std::nullopt;
  }
  if (leftover.mark.sequence != folder.sequence) return std::nullopt;
  for (const auto& [number, size] : volumes_in(store, folder.path)) leftover.bytes += size;
  return leftover;
}

void rekey_leftover(Store& store, Leftover& leftover, const std::vector<KeyEntry>& keys) {
  leftover.mark.keys = keys;
  store.put(leftover.folder.path + "/" + open_name, as_bytes(encode_open_mark(leftover.mark)));
}

TakenLeftover take_leftover(Store& store, const Leftover& leftover, const SecretKey& master,
                            const std::function<void(const std::vector<IndexRecord>&)>& chunks,
                            const std::function<void(std::uint64_t)>& passed) {
  TakenLeftover taken;
  const std::string& folder = leftover.folder.path;
  const bool cuts = store.traits().renames;  // else a file is taken whole or not at all
  bool going = true;
  std::uint32_t next = 1;
  std::optional<TreePath> last;
  for (const auto& [number, size] : volumes_in(store, folder)) {
    const std::string path = folder + "/" + volume_file_name(number);
    GoodPart part;
    going = going && number == next++;
    if (going) {
      try {
        const SealedFile file = expected(leftover, number, size);
        part = good_part(FrameFileReader(store, path, master, leftover.mark.job, file), file, passed);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
      }
    }
    const std::uint64_t good = cuts || part.sealed.size == size ? part.sealed.size : 0;
    going = going && good == size;
    taken.dropped_bytes += size - good;
    if (good == 0) {
      store.remove(path);
      continue;
    }
    store.shorten(path, good);
    if (!part.chunks.empty()) chunks(part.chunks);
    add_part(std::move(part), taken, last);
  }
  store.remove(folder + "/" + index_file_name);
  // Parity is made anew of what is taken.
  for (const StoreEntry& entry : store.list(folder)) {
    if (!entry.folder && entry.name.ends_with(parity_ending)) store.remove(folder + "/" + entry.name);
  }
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
