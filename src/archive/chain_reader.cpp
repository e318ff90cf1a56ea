#include "archive/chain_reader.hpp"

#include <algorithm>
#include <bit>
#include <set>

namespace kestrum {

ChainReader::ChainReader(const Store& store, SetList sets, KeyRing& keys)
    : store_(store), sets_(std::move(sets)), keys_(keys) {}

SetReader& ChainReader::set(Sequence sequence) {
  auto open = open_.find(sequence);
  if (open != open_.end()) return *open->second;
  std::shared_ptr<const FoundSet> found = sets_.shared(sequence);
  if (!found)
    throw damage("set " + std::to_string(sequence) + " is needed and is not there, or has no valid seal");
  SecretKey master = keys_.unlock(found->seal->keys, found->facts().chain);
  SetReader& reader =
      *open_.emplace(sequence, std::make_unique<SetReader>(store_, found, master)).first->second;
  // All open sets share one budget, halved each time their number doubles.
  constexpr std::size_t pages_together = 1536;  // 24 MiB
  std::size_t each = std::max<std::size_t>(16, pages_together / std::bit_ceil(open_.size()));
  reader.limit_pages(each);
  if (each != pages_each_) {
    for (auto& [number, one] : open_) one->limit_pages(each);
  }
  pages_each_ = each;
  return reader;
}

SetReader* ChainReader::try_set(Sequence sequence) {
  try {
    return &set(sequence);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage) throw;
    return nullptr;
  }
}

PointReader::PointReader(ChainReader& chain, const std::vector<Sequence>& points)
    : chain_(chain), set_(chain.set(points.back())), naming_(set_.naming_key()) {
  std::set<Sequence> known;
  const auto add = [&](const SetFacts& facts) {
    if (!known.insert(facts.sequence).second) return;
    sources_.push_back(facts.sequence);
    covers_from_.push_back(facts.covers_from());
  };
  for (auto point = points.rbegin(); point != points.rend(); ++point) {
    const SetFacts& facts = chain.set(*point).facts();
    add(facts);
    for (std::size_t place : chain.sets().needs().closure(facts).met)
      add(chain.sets().sealed_at(place).facts());
  }
}

std::vector<Sequence> PointReader::order(const ChunkRef& ref) const {
  std::vector<Sequence> order = sources_;
  for (std::size_t i = 0; i < order.size(); ++i) {
    if (covers_from_[i] > ref.sequence || ref.sequence > order[i]) continue;
    std::rotate(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(i),
                order.begin() + static_cast<std::ptrdiff_t>(i) + 1);
    break;
  }
  return order;
}

std::optional<std::pair<SetReader*, IndexRecord>> PointReader::locate(const ChunkRef& ref) {
  for (Sequence sequence : order(ref)) {
    SetReader* reader = chain_.try_set(sequence);
    if (reader == nullptr) continue;
    if (std::optional<IndexRecord> record = reader->find(ref.name)) return std::pair(reader, *record);
  }
  return std::nullopt;
}

ChunkView PointReader::view(const ChunkRef& ref) {
  // Neighbours in a file or a folder mostly lie in the frames just read.
  if (std::optional<ChunkView> at_hand = frames_.find(ref)) return *at_hand;
  std::optional<Error> first;
  for (Sequence sequence : order(ref)) {
    try {
      SetReader& reader = chain_.set(sequence);
      std::optional<IndexRecord> record = reader.find(ref.name);
      if (record) return frames_.read(reader, *record, ref);
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      if (!first || is_of_the_system(error)) first = error;
    }
  }
  if (first) throw *first;
  throw damage("a chunk is in none of the sets that should hold it");
}

Bytes PointReader::fetch(const ChunkRef& ref) {
  ChunkView chunk = view(ref);
  return Bytes(chunk.content.begin(), chunk.content.end());
}

bool PointReader::passes(const ChunkRef& ref) {
  if (!frames_.sieve()) return true;
  const ChunkView chunk = view(ref);
  return chunk.passes ? *chunk.passes : frames_.sieve()(chunk.content);
}

void PointReader::expect(const ChunkRef& ref) {
  try {
    if (const auto place = locate(ref)) frames_.expect(*place->first, place->second);
  } catch (const Error&) {
    // Whoever reads it will be told.
  }
}

void ChainChunks::load() {
  loaded_ = true;
  std::size_t names = 0;
  for (SetReader* set : sets_) {
    try {
      names += set->about_records();
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
  }
  table_.expect(names);
  for (std::uint32_t i = 0; i < sets_.size(); ++i) {
    const bool intact = !sets_[i]->has_losses();
    try {
      sets_[i]->each_record([&](const IndexRecord& record) {
        if (intact || !sets_[i]->is_lost(record)) table_.put(record.name, i);
      });
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      sets_[i]->mark_lost(
          {{0}, {}});  // the rest of its index does not read: what was put so far is confirmed before use
    }
  }
}

std::optional<Sequence> ChainChunks::find(const ChunkName& name) {
  if (sets_.empty()) return std::nullopt;
  if (auto known = remembered_.find(name); known != remembered_.end()) return known->second;
  if (!loaded_ && page_reads_ + sets_.size() <= most_page_reads) return find_by_page(name);
  if (!loaded_) load();
  std::optional<std::uint32_t> which = table_.find(name);
  if (!which) return std::nullopt;
  try {
    std::optional<IndexRecord> record = sets_[*which]->find(name);
    if (record && !sets_[*which]->is_lost(*record)) return sets_[*which]->facts().sequence;
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  return std::nullopt;
}

std::optional<Sequence> ChainChunks::find_by_page(const ChunkName& name) {
  page_reads_ += sets_.size();
  for (SetReader* set : sets_) {
    try {
      std::optional<IndexRecord> record = set->find(name);
      if (record && !set->is_lost(*record)) return set->facts().sequence;
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
    }
  }
  return std::nullopt;
}

bool ChainChunks::any_losses() const {
  return std::any_of(sets_.begin(), sets_.end(), [](const SetReader* set) { return set->has_losses(); });
}

bool ChainChunks::good(const ChunkRef& ref) {
  for (SetReader* set : sets_) {
    const SetFacts& facts = set->facts();
    bool hinted = facts.covers_from() <= ref.sequence && ref.sequence <= facts.sequence;
    if (hinted && !set->has_losses()) return true;
  }
  return find(ref.name).has_value();
}

}  // namespace kestrum
