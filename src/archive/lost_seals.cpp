#include "archive/lost_seals.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "archive/parity_head.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// One file of the set, with its last frame.
struct OwnFile {
  SealedFile sealed;
  FramePlace last;
  FrameContent last_content;
};

FileHeader header_of(const Store& store, const std::string& path) {
  Bytes head(FileHeader::size);
  store.open(path)->read_at(0, head);
  return FileHeader::decode(head, store.describe(path));
}

OwnFile look_at(const Store& store, const std::string& folder, const std::string& name, const Id& job,
                const SecretKey& master, const std::function<void(std::uint64_t)>& progress) {
  const std::string path = folder + "/" + name;
  const FileHeader header = header_of(store, path);
  OwnFile file;
  file.sealed = {.slot = header.number,
                 .name = name,
                 .set = header.set,
                 .number = header.number,
                 .size = store.open(path)->size()};
  FrameFileReader reader(store, path, master, job, file.sealed);
  DigestStream digest;
  digest.update(reader.header_bytes());
  reader.each_head([&](FramePlace place, const Bytes& head, const Bytes& tag) {
    digest.update(head);
    digest.update(tag);
    file.last = place;
    if (progress) progress(place.size);
  });
  file.sealed.digest = digest.finish();
  file.last_content = reader.read(file.last);
  return file;
}

Root root_of(const OwnFile& last_volume, const std::string& where) {
  ByteReader in(last_volume.last_content.content);
  if (last_volume.last_content.kind != FrameKind::closing || in.u8() != 1)
    throw damage(where + " has no closing frame: the set was not finished, or its last volume is missing");
  const ByteView set = in.raw(last_volume.sealed.set.size());
  if (!std::equal(set.begin(), set.end(), last_volume.sealed.set.begin()))
    throw damage("the closing frame in " + where + " is of another set");
  return decode_root(in.raw(in.remaining()));
}

int number_at(const std::string& text, std::size_t at, std::size_t count) {
  int number = 0;
  if (at + count <= text.size()) std::from_chars(text.data() + at, text.data() + at + count, number);
  return number;
}

// 000012_2027-03-02_20-30_incremental
void take_name(const std::string& name, std::int32_t offset_seconds, SetFacts& facts) {
  if (name.find("_from-") != std::string::npos)
    throw damage("the seal of a folded set cannot be made anew: " + printable(name));
  for (const Kind kind : {Kind::full, Kind::incremental, Kind::differential}) {
    if (name.ends_with("_" + std::string(kind_name(kind)))) facts.kind = kind;
  }
  const std::size_t date = name.find('_') + 1;
  const std::string local =
      fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:00Z", number_at(name, date, 4), number_at(name, date + 5, 2),
                  number_at(name, date + 8, 2), number_at(name, date + 11, 2), number_at(name, date + 14, 2));
  const std::optional<Instant> started = parse_utc(local);
  if (!started) throw damage("the name of " + printable(name) + " does not say when it was made");
  facts.started = facts.ended = {started->seconds - offset_seconds, 0};
  facts.offset_seconds = offset_seconds;
}

// The heads of parity files say what they belong to.
std::vector<SealedParity> parity_there(const Store& store, const std::string& folder,
                                       const std::vector<SealedFile>& files) {
  std::vector<SealedParity> all;
  for (const SealedFile& of : files) {
    const std::string name = parity_file_name(of.slot), path = folder + "/" + name;
    if (!store.exists(path)) continue;
    if (std::optional<SealedParity> parity = read_own_parity(store, path, of)) {
      parity->file.name = name;
      all.push_back(*parity);
    }
  }
  return all;
}

}  // namespace

Seal seal_anew(const Store& store, const SetFolder& folder, const SetList& list, const FoundSet& like,
               const SecretKey& master, const std::function<void(std::uint64_t)>& progress) {
  const std::string where = store.describe(folder.path);
  Seal seal;
  seal.core = like.seal->core;
  seal.core.previous.reset();
  seal.keys = like.seal->keys;
  SetFacts& facts = seal.core.facts;
  facts = {};
  facts.sequence = folder.sequence;
  facts.chain = like.facts().chain;
  take_name(folder.name, like.facts().offset_seconds, facts);

  std::vector<OwnFile> files;
  for (const StoreEntry& entry : store.list(folder.path)) {
    if (!entry.name.ends_with(volume_ending) && entry.name != index_file_name) continue;
    files.push_back(look_at(store, folder.path, entry.name, seal.core.job, master, progress));
  }
  std::sort(files.begin(), files.end(),
            [](const OwnFile& a, const OwnFile& b) { return a.sealed.slot < b.sealed.slot; });
  if (files.size() < 2) throw damage(where + " lacks its index or its volumes");
  seal.core.files.clear();
  for (std::size_t i = 0; i < files.size(); ++i) {
    if (files[i].sealed.slot != i) throw damage(fmt::format("{} lacks its file number {}", where, i));
    if (files[i].sealed.set != files.back().sealed.set)
      throw damage("the files in " + where + " are of several sets");
    seal.core.files.push_back(files[i].sealed);
    facts.totals.stored_bytes += files[i].sealed.size;
  }
  facts.set = files.back().sealed.set;
  Root root = root_of(files.back(), where);
  if (files.front().last_content.kind != FrameKind::fence)
    throw damage("the index in " + where + " breaks off");
  root.fence = files.front().last;
  seal.core.root = box_root(root, master, facts.set);
  for (const FoundSet& set : list) {
    if (!set.sealed() || set.facts().chain != facts.chain || set.folder.sequence >= folder.sequence) continue;
    facts.needs.push_back({set.folder.sequence, set.facts().set});
    facts.base = set.folder.sequence;
  }
  seal.parity = parity_there(store, folder.path, seal.core.files);
  for (const SealedParity& parity : seal.parity) facts.totals.stored_bytes += parity.file.size;
  return seal;
}

}  // namespace kestrum
