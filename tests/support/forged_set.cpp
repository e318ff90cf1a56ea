#include "support/forged_set.hpp"

#include "base/random.hpp"
#include "engine/run_facts.hpp"

namespace kestrum::test {
namespace {

class NothingKnown final : public KnownChunks {
 public:
  std::optional<Sequence> find(const ChunkName&) override { return std::nullopt; }
};

}  // namespace

ForgedEntry forged_folder(const std::string& path) {
  ForgedEntry forged;
  forged.entry.path = TreePath::parse(path).value();
  forged.entry.type = EntryType::folder;
  forged.entry.mode = 0755;
  return forged;
}

ForgedEntry forged_file(const std::string& path, const std::string& content, std::uint32_t mode) {
  ForgedEntry forged;
  forged.entry.path = TreePath::parse(path).value();
  forged.entry.mode = mode;
  forged.entry.size = content.size();
  forged.content = content;
  return forged;
}

ForgedSet::ForgedSet() {
  facts.set = random_id();
  facts.chain = random_id();
  facts.sequence = 1;
  facts.started = facts.ended = SystemClock().now();
}

std::string forge(Store& store, const std::string& job_folder, const ForgedSet& set) {
  std::string name = set.folder;
  if (name.empty())
    name = set_folder_name(set.facts.sequence, set.facts.started, 0, set.facts.kind, set.facts.folded_from);
  SetIdentity identity{set.job, set.facts.set, set.facts.sequence, in_folder(job_folder, name)};
  store.make_folders(identity.folder);
  Naming naming(set.naming);
  NothingKnown nothing;
  SetWriter writer(store, identity, set.master, naming, nothing, {});
  std::vector<ForgedEntry> entries = set.entries;
  if (set.prepare) set.prepare(writer, entries);
  CatalogWriter catalog(writer, set.naming);
  for (ForgedEntry& forged : entries) {
    Entry& entry = forged.entry;
    if (!forged.content.empty() && entry.content.empty()) {
      ChunkRef ref = writer.put(FrameKind::content, as_bytes(forged.content));
      entry.content = {ContentItem{ItemKind::data, entry.size, ref.name, ref.sequence, 0}};
    }
    catalog.add(entry);
  }
  Root root;
  root.catalog = catalog.finish();
  root.record = writer.put(FrameKind::record, encode_run_record({"forged", {}, {}, "forged", false}));
  root.job_file = writer.put(FrameKind::record, as_bytes(set.job_file));
  SetWriter::Finished finished = writer.finish(root);
  Seal seal;
  seal.core.job = set.job;
  seal.core.facts = set.facts;
  seal.core.facts.totals.stored_bytes = finished.stored_bytes;
  seal.core.machine = set.machine;
  seal.core.job_name = set.name;
  seal.core.files = finished.files;
  seal.core.previous = set.previous;
  seal.core.naming = box_naming(set.naming, set.master, set.facts.chain);
  seal.core.root = box_root(finished.root, set.master, set.facts.set);
  seal.keys = set.keys;
  if (seal.keys.empty()) seal.keys = {make_clear_entry(set.master)};
  if (set.change) set.change(seal);
  put_seals(store, identity.folder, seal, set.master);
  return identity.folder;
}

Seal seal_in(const Store& store, const std::string& set_folder) {
  std::string path = set_folder + "/" + seal_name;
  return decode_seal(store.read_all(path, UINT64_MAX), path);
}

void put_seals(Store& store, const std::string& set_folder, const Seal& seal, const SecretKey& master) {
  std::string text = encode_seal(seal, master);
  for (const char* name : {seal_name, seal_copy_name}) store.put(set_folder + "/" + name, as_bytes(text));
}

}  // namespace kestrum::test
