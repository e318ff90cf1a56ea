#include "engine/retaking.hpp"

#include <unistd.h>

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
      if (ref.length != 0) look(point, ref, FrameKind::record, {});
    }
    CatalogReader catalog(point, root.catalog);
    catalog.on_page([&](const ChunkRef& page) { look(point, page, FrameKind::catalog, {}); });
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
    if (entry.attribute_chunk) look(point, *entry.attribute_chunk, FrameKind::catalog, {});
    std::uint64_t at = 0;
    try {
      walk_content(
          entry.content, point,
          [&](const ContentItem& item) {
            if (item.kind == ItemKind::data) {
              LostChunk::Use use{entry, at};
              use.entry.content.clear();
              look(point, item.ref(), FrameKind::content, std::move(use));
            }
            at += item.length;
          },
          [&](const ContentItem& item) { look(point, item.ref(), FrameKind::catalog, {}); });
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      lost_.all = false;
    }
  }

  void look(PointReader& point, const ChunkRef& ref, FrameKind kind, std::optional<LostChunk::Use> use) {
    if (lost_.chunks.contains(ref.name) || is_there(point, ref)) return;
    lost_.chunks[ref.name] = {kind, holder(ref.sequence), std::move(use),
                              static_cast<std::uint32_t>(ref.length)};
  }

  bool is_there(PointReader& point, const ChunkRef& ref) {
    for (const Sequence sequence : point.sources()) {
      try {
        SetReader* const reader = chain_.try_set(sequence);
        const std::optional<IndexRecord> record = reader != nullptr ? reader->find(ref.name) : std::nullopt;
        if (record && !reader->is_lost(*record)) return true;
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;  // its index
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
};

std::optional<Bytes> named(Bytes content, const ChunkName& name, const Naming& naming) {
  if (naming.name(content) != name) return std::nullopt;
  return content;
}

}  // namespace

LostChunks find_lost(ChainReader& chain, const std::function<void()>& checkpoint) {
  return LostFinder(chain, checkpoint).find();
}

Elsewhere::Elsewhere(const std::vector<LookSession*>& others) {
  for (LookSession* other : others)
    chains_.push_back(std::make_unique<ChainReader>(other->store(), other->proved_sets(), other->keys()));
}

std::optional<Bytes> Elsewhere::fetch(const ChunkName& name, const Naming& naming) {
  for (const std::unique_ptr<ChainReader>& chain : chains_) {
    for (const FoundSet& set : chain->sets()) {
      if (!set.sealed() || set.not_ours || set.twice) continue;
      try {
        SetReader& reader = chain->set(set.folder.sequence);
        const std::optional<IndexRecord> record = reader.find(name);
        if (!record) continue;
        const FrameContent frame = reader.file(record->slot).read(record->frame);
        if (frame.content.size() < std::uint64_t{record->offset} + record->length) continue;
        const ByteView content = ByteView(frame.content).subspan(record->offset, record->length);
        if (std::optional<Bytes> good = named(to_bytes(content), name, naming)) return good;
      } catch (const Error& error) {
        // What is damaged there is of no use; the next may be.
        if (error.kind() != ErrorKind::key && !does_not_read(error)) throw;
      }
    }
  }
  return std::nullopt;
}

static std::optional<Bytes> read_at(int fd, std::uint64_t at, std::uint32_t length) {
  Bytes content;
  if (lseek(fd, static_cast<off_t>(at), SEEK_SET) < 0 || !read_exactly(fd, content, length))
    return std::nullopt;
  return content;
}

std::optional<Bytes> FromSources::fetch(const ChunkName& name, const LostChunk& chunk,
                                        const SecretKey& naming_key) {
  if (!chunk.use) return std::nullopt;
  const FileHandle file = today_.open(chunk.use->entry);
  if (!file) return std::nullopt;
  const Naming naming(naming_key);
  if (std::optional<Bytes> same = read_at(file.get(), chunk.use->at, chunk.length)) {
    if (naming.name(*same) == name) return same;
  }
  const Pieces& pieces = pieces_of(chunk.use->entry.path, file.get(), naming_key);
  const auto found = pieces.find(name);
  if (found == pieces.end()) return std::nullopt;
  std::optional<Bytes> content = read_at(file.get(), found->second.at, found->second.length);
  return content ? named(std::move(*content), name, naming) : std::nullopt;
}

// As a run cuts it (engine/file_saver): each stretch of data between holes on its own.
const FromSources::Pieces& FromSources::pieces_of(const TreePath& path, int fd, const SecretKey& naming_key) {
  if (cut_ == path) return pieces_;
  cut_ = path;
  pieces_.clear();
  const Cutter cutter(naming_key);
  const Naming naming(naming_key);
  for (off_t at = 0; (at = lseek(fd, at, SEEK_DATA)) >= 0;) {
    const off_t end = lseek(fd, at, SEEK_HOLE);
    while (at < end) {
      const auto length = static_cast<std::uint32_t>(std::min<off_t>(end - at, Cutter::max_size));
      const std::optional<Bytes> content = read_at(fd, static_cast<std::uint64_t>(at), length);
      if (!content) return pieces_;
      const std::size_t cut = cutter.cut(*content);
      const ByteView piece = ByteView(*content).first(cut);
      pieces_.emplace(naming.name(piece),
                      Place{static_cast<std::uint64_t>(at), static_cast<std::uint32_t>(cut)});
      at += static_cast<off_t>(cut);
    }
    if (end <= at && lseek(fd, at, SEEK_DATA) == at) break;  // the file grew or shrank meanwhile
  }
  return pieces_;
}

}  // namespace kestrum
