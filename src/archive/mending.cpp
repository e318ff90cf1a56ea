#include "archive/mending.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_set>

#include "archive/closing_frame.hpp"
#include "archive/set_folder.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::string_view mending_mark = ".mending";
constexpr std::size_t copy_bytes = 1u << 20;

const SealedParity* parity_of(const SetReader& set, std::uint32_t slot) {
  for (const SealedParity& parity : set.seal().parity) {
    if (parity.file.slot == slot) return &parity;
  }
  return nullptr;
}

void ask(const MendOptions& options) {
  if (options.guard) options.guard();
}

// Frame by frame: whether all of it is what was sealed.
bool is_whole(const Store& store, const std::string& path, const SecretKey& master, const Id& job,
              const SealedFile& of) {
  try {
    FrameFileReader file(store, path, master, job, of);
    if (light_digest(file) != of.digest) return false;
    for (std::uint64_t at = FileHeader::size; at < file.size();) {
      const FramePlace place = file.head_at(at).first;
      file.read_packed(place);
      at += place.size;
    }
    return true;
  } catch (const Error& error) {
    if (is_of_the_system(error) && !does_not_read(error)) throw;
    return false;
  }
}

// Of these places, those whose frame authenticates.
std::vector<bool> good_frames(const Store& store, const std::string& path, const SecretKey& master,
                              const Id& job, const SealedFile& of, const std::vector<FramePlace>& places) {
  std::vector<bool> good(places.size());
  try {
    const FrameFileReader file(store, path, master, job, of);
    for (std::size_t i = 0; i < places.size(); ++i) {
      try {
        file.read_packed(places[i]);
        good[i] = true;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
      }
    }
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  return good;
}

// Where the index says that frames of the file lie; none where it does not read.
std::vector<FramePlace> known_places(SetReader& set, std::uint32_t slot) {
  std::map<std::uint64_t, FramePlace> places;
  try {
    set.each_record([&](const IndexRecord& record) {
      if (record.slot == slot) places[record.frame.offset] = record.frame;
    });
  } catch (const Error& error) {
    if (is_of_the_system(error) && !does_not_read(error)) throw;
  }
  std::vector<FramePlace> list;
  for (const auto& [offset, place] : places) list.push_back(place);
  return list;
}

// Nothing that read before reads no longer, and something reads that did not.
bool is_better(const std::vector<bool>& before, const std::vector<bool>& after) {
  bool more = false;
  for (std::size_t i = 0; i < before.size(); ++i) {
    if (before[i] && !after[i]) return false;
    more = more || (after[i] && !before[i]);
  }
  return more;
}

void copy_mended(Store& store, const StoreReader* from, const std::string& to, std::uint64_t size,
                 const std::map<std::uint64_t, Bytes>& pieces, const MendOptions& options) {
  store.remove(to);
  const std::unique_ptr<StoreWriter> out = store.create(to);
  Bytes part;
  for (std::uint64_t at = 0; at < size; at += part.size()) {
    part.resize(std::min<std::uint64_t>(copy_bytes, size - at));
    read_as_far_as_it_reads(from, at, part);
    const std::uint64_t first = at / parity_slice;
    for (auto piece = pieces.lower_bound(first); piece != pieces.end(); ++piece) {
      const std::uint64_t offset = piece->first * parity_slice - at;
      if (offset >= part.size()) break;
      std::copy(piece->second.begin(), piece->second.end(),
                part.begin() + static_cast<std::ptrdiff_t>(offset));
    }
    out->append(part);
    if (options.progress) options.progress(part.size());
  }
  out->finish();
}

// Where files cannot be renamed the copy stays until the file is written anew.
void take_place(Store& store, const std::string& mended, const std::string& path, std::uint64_t size) {
  if (store.traits().renames) {
    store.rename(mended, path);
    flush_names(store, folder_of(path), "10: a mended file");
    return;
  }
  store.remove(path);
  const std::unique_ptr<StoreReader> from = store.open(mended);
  copy_mended(store, from.get(), path, size, {}, {});
  store.remove(mended);
}

}  // namespace

FileMending mend_file(Store& store, SetReader& set, const SecretKey& master, std::uint32_t slot,
                      const MendOptions& options) {
  const SealedFile& of = *set.sealed_file(slot);
  const Id& job = set.seal().core.job;
  const SealedParity* const parity = parity_of(set, slot);
  if (parity == nullptr) return {};
  const std::string path = locate_file(store, set.found(), of), mended = path + std::string(mending_mark);
  const ParityReader reader(store, set.parity_path(*parity), job, of, *parity);
  const std::unique_ptr<StoreReader> file = store.try_open(path);
  const SliceDamage found = reader.look(file.get(), options.progress);
  FileMending out{found.slices.size(), found.slices.size() - found.beyond.size(), false};
  const bool right_size = file != nullptr && file->size() == of.size;
  if (out.mended == 0 && (right_size || file == nullptr)) return out;
  if (options.dry) {
    out.whole = found.beyond.empty();
    return out;
  }
  ask(options);
  const std::map<std::uint64_t, Bytes> pieces = reader.mend(file.get(), found);
  out.mended = pieces.size();
  out.whole = pieces.size() == found.slices.size();
  copy_mended(store, file.get(), mended, of.size, pieces, options);
  bool proved = false;
  if (out.whole) {
    proved = is_whole(store, mended, master, job, of);
  } else {
    const std::vector<FramePlace> places = known_places(set, slot);
    proved = is_better(good_frames(store, path, master, job, of, places),
                       good_frames(store, mended, master, job, of, places));
  }
  ask(options);
  if (!proved) {
    store.remove(mended);
    out.mended = 0;
    if (out.whole)
      throw damage("what the parity of " + store.describe(path) + " makes of it is not what was sealed");
    return out;
  }
  take_place(store, mended, path, of.size);
  return out;
}

void settle_mending(Store& store, const SetReader& set) {
  const std::string& folder = set.folder().path;
  for (const StoreEntry& entry : store.list(folder)) {
    if (entry.folder || !entry.name.ends_with(mending_mark)) continue;
    const std::string mended = folder + "/" + entry.name;
    const std::string path = mended.substr(0, mended.size() - mending_mark.size());
    const SealedFile* of = nullptr;
    for (const SealedFile& file : set.seal().core.files) {
      if (folder + "/" + file.name == path) of = &file;
    }
    // Only where nothing can be renamed is there a moment without the file.
    if (of != nullptr && !store.exists(path) && entry.size == of->size) {
      take_place(store, mended, path, of->size);
    } else {
      store.remove(mended);
    }
  }
}

bool mend_seals(Store& store, const SetReader& set, const MendOptions& options) {
  const Bytes& good = set.seal().checked.file;
  bool any = false;
  for (const char* name : {seal_name, seal_copy_name}) {
    const std::string path = set.folder().path + "/" + name;
    bool same = false;
    try {
      same = store.holds(path, good).value_or(false);
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
    if (same) continue;
    any = true;
    if (options.dry) continue;
    ask(options);
    store.put(path, good);
  }
  return any;
}

namespace {

// The next place from `at` on where a frame with a higher ordinal begins that authenticates.
std::optional<FramePlace> next_frame(const FrameFileReader& file, std::uint64_t at, std::uint32_t after) {
  constexpr std::string_view magic = "KFRM";
  Bytes part;
  while (at + FrameHead::size + Aead::tag_size <= file.size()) {
    part.resize(std::min<std::uint64_t>(copy_bytes, file.size() - at));
    file.read_raw(at, part);
    const std::string_view text = as_text(part);
    for (std::size_t i = text.find(magic); i != std::string_view::npos; i = text.find(magic, i + 1)) {
      try {
        const auto [place, head] = file.head_at(at + i);
        if (FrameHead::decode(head).ordinal <= after) continue;
        file.read_packed(place);
        return place;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
      }
    }
    if (part.size() < copy_bytes) break;
    at += part.size() - magic.size() + 1;
  }
  return std::nullopt;
}

// Every frame that authenticates, in order.
void each_good_frame(const FrameFileReader& file, const std::function<void(FramePlace, PackedFrame)>& use) {
  std::uint32_t ordinal = 0;
  for (std::uint64_t at = FileHeader::size; at < file.size();) {
    std::optional<FramePlace> place;
    try {
      const auto [found, head] = file.head_at(at);
      PackedFrame frame = file.read_packed(found);
      ordinal = FrameHead::decode(head).ordinal;
      place = found;
      use(found, std::move(frame));
    } catch (const Error& error) {
      if (place || !does_not_read(error)) throw;
    }
    if (!place) {
      place = next_frame(file, at + 1, ordinal);
      if (!place) return;
      at = place->offset;
      continue;
    }
    at += place->size;
  }
}

void add_records(const PackedFrame& frame, std::uint32_t slot, FramePlace place,
                 std::vector<IndexRecord>& records) {
  std::uint32_t offset = 0;
  for (const ListedChunk& chunk : frame.chunks) {
    records.push_back({chunk.name, slot, place, offset, chunk.length});
    offset += chunk.length;
  }
}

std::string free_name(const Store& store, const std::string& folder, const std::string& stem,
                      std::string_view ending) {
  for (unsigned number = 2;; ++number) {
    const std::string name = fmt::format("{}-{}{}", stem, number, ending);
    if (!store.exists(folder + "/" + name)) return name;
  }
}

}  // namespace

std::vector<IndexRecord> records_of_volumes(SetReader& set,
                                            const std::function<void(std::uint64_t)>& progress) {
  std::vector<IndexRecord> records;
  for (const SealedFile& file : set.seal().core.files) {
    if (file.slot == 0) continue;
    try {
      each_good_frame(set.file(file.slot), [&](FramePlace place, const PackedFrame& frame) {
        add_records(frame, file.slot, place, records);
        if (progress) progress(place.size);
      });
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;  // the whole file is lost
    }
  }
  return records;
}

namespace {

bool by_slot(const SealedParity& a, const SealedParity& b) {
  return a.file.slot < b.file.slot;
}

// What it names is on the drive by then.
void put_mended(Store& store, const SetReader& set, Seal& seal, const SecretKey& master,
                const MendOptions& options, const std::vector<std::string>& gone) {
  const std::string& folder = set.folder().path;
  std::sort(seal.parity.begin(), seal.parity.end(), by_slot);
  flush_names(store, folder, "6: names of a set's files");
  ask(options);
  put_seals(store, folder, mended_seal(seal, master));
  for (const std::string& file : gone) store.remove(folder + "/" + file);
}

}  // namespace

void replace_index(Store& store, const SetReader& set, const SecretKey& master, NewIndex wanted,
                   const MendOptions& options) {
  const std::string& folder = set.folder().path;
  Seal seal = set.seal();
  std::vector<IndexRecord>& records = wanted.records;
  std::ranges::sort(records, {}, &IndexRecord::name);
  records.erase(
      std::unique(records.begin(), records.end(),
                  [](const IndexRecord& one, const IndexRecord& other) { return one.name == other.name; }),
      records.end());
  ask(options);
  const WrittenIndex index = write_index(store, folder + "/" + free_name(store, folder, "index", ".kidx"),
                                         seal.core.job, seal.core.facts.set, master, [&](const auto& next) {
                                           for (const IndexRecord& record : records) next(record);
                                         });
  std::vector<std::string> gone;
  wanted.volumes.push_back(index.file);
  for (SealedFile& file : wanted.volumes) {
    if (const SealedFile* const before = set.sealed_file(file.slot)) gone.push_back(before->name);
    if (const SealedParity* const before = parity_of(set, file.slot)) gone.push_back(before->file.name);
    std::erase_if(seal.replaced, [&](const SealedFile& one) { return one.slot == file.slot; });
    std::erase_if(seal.parity, [&](const SealedParity& one) { return one.file.slot == file.slot; });
    seal.replaced.push_back(std::move(file));
  }
  seal.fence = index.fence;
  std::ranges::move(wanted.parity, std::back_inserter(seal.parity));
  if (wanted.parity_percent > 0)
    seal.parity.push_back(make_parity(store, folder, seal.core.job, index.file, wanted.parity_percent,
                                      options.progress, free_name(store, folder, "mend-000", parity_ending)));
  put_mended(store, set, seal, master, options, gone);
}

namespace {

// A volume that a set gets when it is mended, and the index that names it.
class NewVolume {
 public:
  // `slot`: that of the file whose place it takes; 0: its own.
  NewVolume(Store& store, SetReader& set, const SecretKey& master, std::uint32_t slot, std::uint32_t number,
            const MendOptions& options)
      : store_(store),
        folder_(set.folder().path),
        job_(set.seal().core.job),
        slot_(slot == 0 ? number : slot) {
    ask(options);
    const std::string path = folder_ + "/" + volume_file_name(number);
    store.remove(path);  // of a repair that was interrupted: no seal names it
    FileHeader header{FileKind::volume, number, job_, set.facts().set, {}};
    fill_random(header.salt);
    file_.emplace(store, path, master, header);
  }
  void add(const PackedFrame& frame, std::vector<IndexRecord>& records) {
    add_records(frame, slot_, file_->append(frame), records);
  }
  void finish(const PieceOptions& how, const MendOptions& options, NewIndex& index) {
    SealedFile sealed = file_->finish();
    sealed.slot = slot_;
    sealed.name = volume_file_name(sealed.number);
    if (how.parity_percent > 0) {
      const std::string name = parity_file_name(sealed.number);
      store_.remove(folder_ + "/" + name);
      index.parity.push_back(
          make_parity(store_, folder_, job_, sealed, how.parity_percent, options.progress, name));
    }
    index.volumes.push_back(std::move(sealed));
  }

 private:
  Store& store_;
  std::string folder_;
  Id job_;
  std::uint32_t slot_;
  std::optional<FrameFileWriter> file_;
};

// No file of the set has it, as slot or as number.
std::uint32_t free_number(const SetReader& set) {
  std::uint32_t number = 0;
  for (const SealedFile& file : set.seal().core.files) number = std::max({number, file.slot, file.number});
  return number + 1;
}

// Of what is not lost; `but`: not what lies in these files.
std::vector<IndexRecord> good_records(SetReader& set, const std::set<std::uint32_t>& but,
                                      const MendOptions& options) {
  std::vector<IndexRecord> records;
  try {
    set.each_record([&](const IndexRecord& record) {
      if (!set.is_lost(record)) records.push_back(record);
    });
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    records = records_of_volumes(set, options.progress);
  }
  std::erase_if(records, [&](const IndexRecord& record) { return but.contains(record.slot); });
  return records;
}

}  // namespace

void put_pieces(Store& store, SetReader& set, const SecretKey& master, const std::vector<FoundPiece>& pieces,
                const PieceOptions& how, const MendOptions& options) {
  NewIndex index;
  index.parity_percent = how.parity_percent;
  index.records = good_records(set, {}, options);
  // What an index tells twice, no check would believe. What looked lost may only not have read just then.
  std::unordered_set<ChunkName, ChunkNameHash> there;
  for (const IndexRecord& record : index.records) there.insert(record.name);
  const auto is_wanted = [&](const FoundPiece& piece) { return !there.contains(piece.name); };
  if (std::none_of(pieces.begin(), pieces.end(), is_wanted)) return;
  NewVolume volume(store, set, master, 0, free_number(set), options);
  Compressor compressor;
  for (const FrameKind kind : {FrameKind::content, FrameKind::catalog, FrameKind::record}) {
    FrameContent frame{.kind = kind, .chunks = {}, .content = {}};
    const auto write = [&] {
      if (!frame.chunks.empty()) volume.add(pack_frame(frame, how.level, compressor), index.records);
      frame.chunks.clear();
      frame.content.clear();
    };
    for (const FoundPiece& piece : pieces) {
      if (piece.kind != kind || !there.insert(piece.name).second) continue;
      if (frame.content.size() + piece.content.size() > copy_bytes) write();
      frame.chunks.push_back({piece.name, static_cast<std::uint32_t>(piece.content.size())});
      frame.content.insert(frame.content.end(), piece.content.begin(), piece.content.end());
    }
    write();
  }
  volume.finish(how, options, index);
  replace_index(store, set, master, std::move(index), options);
}

// All that is known to be good in these files was found in them now. No, where the index does not say.
static bool has_all_good(SetReader& set, const std::set<std::uint32_t>& slots,
                         const std::vector<IndexRecord>& found) {
  std::unordered_set<ChunkName, ChunkNameHash> names;
  for (const IndexRecord& record : found) names.insert(record.name);
  bool all = true;
  try {
    set.each_record([&](const IndexRecord& record) {
      const bool good = slots.contains(record.slot) && !set.is_lost(record);
      all = all && (!good || names.contains(record.name));
    });
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return false;
  }
  return all;
}

void give_up_lost(Store& store, SetReader& set, const SecretKey& master, const std::set<std::uint32_t>& slots,
                  const PieceOptions& how, const MendOptions& options) {
  NewIndex index;
  index.parity_percent = how.parity_percent;
  index.records = good_records(set, slots, options);
  const std::uint32_t first = free_number(set);
  std::uint32_t number = first;
  for (const std::uint32_t slot : slots) {
    NewVolume volume(store, set, master, slot, number++, options);
    try {
      each_good_frame(set.file(slot), [&](FramePlace place, const PackedFrame& frame) {
        if (!frame.chunks.empty()) volume.add(frame, index.records);
        if (options.progress) options.progress(place.size);
      });
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;  // nothing of it is there
    }
    // Where the set's closing frame was.
    if (slot + 1 == first) {
      Compressor compressor;
      volume.add(pack_frame(closing_frame(set.facts().set, set.root()), 1, compressor), index.records);
    }
    volume.finish(how, options, index);
  }
  // What did not read just now may the next time: then the files stay as they are.
  if (!has_all_good(set, slots, index.records)) {
    for (const SealedFile& file : index.volumes) store.remove(set.folder().path + "/" + file.name);
    for (const SealedParity& parity : index.parity) store.remove(set.folder().path + "/" + parity.file.name);
    return;
  }
  replace_index(store, set, master, std::move(index), options);
}

std::size_t renew_parity(Store& store, const SetReader& set, const SecretKey& master, unsigned percent,
                         bool add, const MendOptions& options) {
  const std::string& folder = set.folder().path;
  Seal seal = set.seal();
  std::vector<std::string> gone;
  std::size_t made = 0;
  for (const SealedFile& file : seal.core.files) {
    const SealedParity* const there = parity_of(set, file.slot);
    if (there == nullptr && !add) continue;
    if (there != nullptr) {
      try {
        const ParityReader reader(store, set.parity_path(*there), seal.core.job, file, *there);
        if (reader.check(options.progress).empty()) continue;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
      }
      gone.push_back(there->file.name);
      std::erase_if(seal.parity, [&](const SealedParity& one) { return one.file.slot == file.slot; });
    }
    ++made;
    if (options.dry) continue;
    ask(options);
    const std::string stem = parity_file_name(file.slot).substr(0, parity_file_name(file.slot).rfind('.'));
    seal.parity.push_back(make_parity(store, folder, seal.core.job, file, percent, options.progress,
                                      free_name(store, folder, stem, parity_ending)));
  }
  if (made > 0 && !options.dry) put_mended(store, set, seal, master, options, gone);
  return made;
}

}  // namespace kestrum
