#include "engine/retaking.hpp"

#include <unistd.h>

#include <algorithm>

#include "archive/catalog_reader.hpp"
#include "archive/content_list.hpp"
#include "archive/cutter.hpp"
#include "engine/same_content.hpp"

namespace kestrum {
namespace {

class LostFinder {
 public:
  LostFinder(ChainReader& chain, const std::function<void()>& checkpoint)
      : chain_(chain), checkpoint_(checkpoint) {}

  LostChunks find() {
    // The newest first: what it says of a file is likeliest to be true today.
    for (std::size_t i = chain_.sets().size(); i-- > 0;) {
      const FoundSet& set = chain_.sets()[i];
      if (!set.sealed() || set.not_ours || set.twice) continue;
      try {
        look_through(set.folder.sequence);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::key && !does_not_read(error)) throw;
        lost_.all = false;
      }
    }
    return std::move(lost_);
  }

 private:
  void look_through(Sequence sequence) {
    PointReader point(chain_, sequence);
    const Root& root = point.set().root();
    for (const ChunkRef& ref : {root.record, root.job_file, root.problems}) {
      if (ref.length != 0) look(point, ref, FrameKind::record);
    }
    CatalogReader catalog(point, root.catalog);
    catalog.on_page([&](const ChunkRef& page) { look(point, page, FrameKind::catalog); });
    while (true) {
      checkpoint_();
      try {
        const std::optional<Entry> entry = catalog.next();
        if (!entry) return;
        look(point, *entry);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        lost_.all = false;
        CatalogReader::Gap gap;
        if (!catalog.pass_damage(gap)) return;
      }
    }
  }

  void look(PointReader& point, const Entry& entry) {
    if (entry.attribute_chunk) look(point, *entry.attribute_chunk, FrameKind::catalog);
    std::uint64_t at = 0;
    std::shared_ptr<Entry> file;
    try {
      walk_content(
          entry.content, point,
          [&](const ContentItem& item) {
            if (item.kind == ItemKind::data) {
              if (LostChunk* const lost = look(point, item.ref(), FrameKind::content)) {
                if (!file) (file = std::make_shared<Entry>(entry))->content.clear();
                add_use(*lost, file, at);
              }
            }
            at += item.length;
          },
          [&](const ContentItem& item) { look(point, item.ref(), FrameKind::catalog); });
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      lost_.all = false;
    }
  }

  // Nothing where it is there. Only good until the next one.
  LostChunk* look(PointReader& point, const ChunkRef& ref, FrameKind kind) {
    if (const auto known = places_.find(ref.name); known != places_.end()) {
      const Sequence set = holder(ref.sequence);
      for (const std::size_t place : known->second) {
        if (lost_.chunks[place].set == set) return &lost_.chunks[place];
      }
    }
    if (is_there(point, ref)) return nullptr;
    places_[ref.name].push_back(lost_.chunks.size());
    lost_.chunks.push_back({.name = ref.name,
                            .set = holder(ref.sequence),
                            .kind = kind,
                            .length = static_cast<std::uint32_t>(ref.length)});
    return &lost_.chunks.back();
  }

  static void add_use(LostChunk& lost, const std::shared_ptr<Entry>& file, std::uint64_t at) {
    const bool known = std::any_of(lost.uses.begin(), lost.uses.end(),
                                   [&](const LostChunk::Use& use) { return use.entry->path == file->path; });
    if (!known && lost.uses.size() < LostChunk::most_uses) lost.uses.push_back({file, at});
  }

  bool is_there(PointReader& point, const ChunkRef& ref) {
    for (const Sequence sequence : point.sources()) {
      try {
        SetReader* const reader = chain_.try_set(sequence);
        const std::optional<IndexRecord> record = reader != nullptr ? reader->find(ref.name) : std::nullopt;
        if (record && !reader->is_lost(*record)) return true;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;  // its index
        // It may read the next time: then nothing is known, and nothing is called lost.
        if (is_of_the_system(error)) {
          lost_.all = false;
          return true;
        }
      }
    }
    return false;
  }

  // The set that has it now, where one of those it was in was folded.
  Sequence holder(Sequence sequence) const {
    for (const FoundSet& set : chain_.sets()) {
      if (set.sealed() && set.facts().covers_from() <= sequence && sequence <= set.facts().sequence)
        return set.facts().sequence;
    }
    return 0;
  }

  ChainReader& chain_;
  const std::function<void()>& checkpoint_;
  LostChunks lost_;
  std::unordered_map<ChunkName, std::vector<std::size_t>, ChunkNameHash> places_;  // in lost_.chunks
};

std::optional<Bytes> named(Bytes content, const ChunkName& name, const Naming& naming) {
  if (naming.name(content) != name) return std::nullopt;
  return content;
}

}  // namespace

LostChunks find_lost(ChainReader& chain, const std::function<void()>& checkpoint) {
  return LostFinder(chain, checkpoint).find();
}

std::optional<Bytes> fetch_from_sets(ChainReader& chain, const ChunkName& name, const Naming& naming) {
  for (const FoundSet& set : chain.sets()) {
    if (!set.sealed() || set.not_ours || set.twice) continue;
    try {
      SetReader& reader = chain.set(set.folder.sequence);
      const std::optional<IndexRecord> record = reader.find(name);
      if (!record || reader.is_lost(*record)) continue;
      const FrameContent frame = reader.file(record->slot).read(record->frame);
      if (frame.content.size() < std::uint64_t{record->offset} + record->length) continue;
      const ByteView content = ByteView(frame.content).subspan(record->offset, record->length);
      if (std::optional<Bytes> good = named(to_bytes(content), name, naming)) return good;
    } catch (const Error& error) {
      // What is damaged there is of no use; the next may be.
      if (error.kind() != ErrorKind::key && !does_not_read(error)) throw;
    }
  }
  return std::nullopt;
}

Elsewhere::Elsewhere(const std::vector<LookSession*>& others) {
  for (LookSession* other : others)
    chains_.push_back(std::make_unique<ChainReader>(other->store(), other->proved_sets(), other->keys()));
}

std::optional<Bytes> Elsewhere::fetch(const ChunkName& name, const Naming& naming) {
  for (const std::unique_ptr<ChainReader>& chain : chains_) {
    if (std::optional<Bytes> content = fetch_from_sets(*chain, name, naming)) return content;
  }
  return std::nullopt;
}

static std::optional<Bytes> read_at(int fd, std::uint64_t at, std::uint32_t length) {
  Bytes content;
  if (lseek(fd, static_cast<off_t>(at), SEEK_SET) < 0 || !read_exactly(fd, content, length))
    return std::nullopt;
  return content;
}

std::optional<Bytes> FromSources::fetch(const LostChunk& chunk, const SecretKey& naming_key) {
  const ChunkName& name = chunk.name;
  const Naming naming(naming_key);
  std::vector<FileHandle> files;
  for (const LostChunk::Use& use : chunk.uses) {
    files.push_back(today_.open(*use.entry));
    if (!files.back()) continue;
    const std::optional<Bytes> same = read_at(files.back().get(), use.at, chunk.length);
    if (same && naming.name(*same) == name) return same;
  }
  for (std::size_t i = 0; i < files.size(); ++i) {
    if (!files[i]) continue;
    const Pieces& pieces = pieces_of(chunk.uses[i].entry->path, files[i].get(), naming_key);
    const auto found = pieces.find(name);
    if (found == pieces.end()) continue;
    std::optional<Bytes> content = read_at(files[i].get(), found->second.at, found->second.length);
    if (content) content = named(std::move(*content), name, naming);
    if (content) return content;
  }
  return std::nullopt;
}

// As a run cuts it (engine/file_saver): each stretch of data between holes on its own.
const FromSources::Pieces& FromSources::pieces_of(const TreePath& path, int fd, const SecretKey& naming_key) {
  if (const auto known = cut_.find(path); known != cut_.end()) return known->second;
  if (cut_.size() == LostChunk::most_uses) cut_.clear();
  Pieces& pieces = cut_[path];
  const Cutter cutter(naming_key);
  const Naming naming(naming_key);
  for (off_t at = 0; (at = lseek(fd, at, SEEK_DATA)) >= 0;) {
    const off_t end = lseek(fd, at, SEEK_HOLE);
    while (at < end) {
      const auto length = static_cast<std::uint32_t>(std::min<off_t>(end - at, Cutter::max_size));
      const std::optional<Bytes> content = read_at(fd, static_cast<std::uint64_t>(at), length);
      if (!content) return pieces;
      const std::size_t cut = cutter.cut(*content);
      const ByteView piece = ByteView(*content).first(cut);
      pieces.emplace(naming.name(piece),
                     Place{static_cast<std::uint64_t>(at), static_cast<std::uint32_t>(cut)});
      at += static_cast<off_t>(cut);
    }
    if (end <= at && lseek(fd, at, SEEK_DATA) == at) break;  // the file grew or shrank meanwhile
  }
  return pieces;
}

}  // namespace kestrum
