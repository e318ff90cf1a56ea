#include "archive/set_folder.hpp"

#include <algorithm>

#include "base/flush_point.hpp"

namespace kestrum {
namespace {

// `mark` of a folder that has the other one, or none.
std::string with_mark(const std::string& path, std::string_view mark) {
  std::string plain = path;
  for (std::string_view other : {unfinished_mark, removing_mark}) {
    if (plain.ends_with(other)) plain.resize(plain.size() - other.size());
  }
  return plain + std::string(mark);
}

// The folder above must be flushed before anything more is done: else a power cut could take the mark back
// and keep what follows.
void mark_removing(Store& store, SetFolder& folder) {
  if (folder.removing) return;
  if (store.traits().renames) {
    std::string marked = with_mark(folder.path, removing_mark);
    store.rename(folder.path, marked);
    folder.path = marked;
  } else {
    store.put(folder.path + "/" + removing_file, as_bytes("{}\n"));
  }
  folder.removing = true;
}

// From here on it is no set.
void remove_seals(Store& store, const std::string& path) {
  for (const char* name : {seal_name, seal_copy_name, open_name}) store.remove(path + "/" + name);
}

void remove_content(Store& store, const std::string& path) {
  std::vector<std::string> files;
  for (const StoreEntry& entry : store.list(path)) {
    if (!entry.folder && entry.name != removing_file) files.push_back(path + "/" + entry.name);
  }
  // What a late listing does not show yet, by the names that a set's files have.
  if (!store.traits().lists_at_once) {
    for (const char* name : {unfinished_file, reserve_name, index_file_name})
      files.push_back(path + "/" + name);
    files.push_back(path + "/" + parity_file_name(0));
    for (std::uint32_t number = 1; store.exists(path + "/" + volume_file_name(number)); ++number) {
      files.push_back(path + "/" + volume_file_name(number));
      files.push_back(path + "/" + parity_file_name(number));
    }
  }
  store.remove_all(files);
  // The mark goes last: without it what is left would look like a damaged set.
  if (!store.traits().renames) store.remove(path + "/" + removing_file);
  // Somebody else's folder in it (a drive's own, a person's) stays, and with it the one that holds it.
  for (const StoreEntry& entry : store.list(path)) {
    if (entry.folder) return;
  }
  store.remove_folder(path);
}

bool holds_file(const Store& store, const std::string& path, const SealedFile& file, FileKind kind) {
  try {
    Bytes bytes(FileHeader::size);
    store.open(path)->read_at(0, bytes);
    FileHeader header = FileHeader::decode(bytes, store.describe(path));
    return header.kind == kind && header.set == file.set && header.number == file.number;
  } catch (const Error& error) {
    if (is_of_the_system(error)) throw;
    return false;
  }
}

}  // namespace

void flush_names(Store& store, const std::string& folder, const char* point) {
  if (flush_point(point)) store.flush_folder(folder);
}

std::string begin_set_folder(Store& store, const std::string& job_folder, const std::string& name) {
  if (!store.traits().renames) {
    std::string path = in_folder(job_folder, name);
    store.make_folder(path);
    store.put(path + "/" + unfinished_file, as_bytes("{}\n"));
    return path;
  }
  std::string path = in_folder(job_folder, name + std::string(unfinished_mark));
  store.make_folder(path);
  flush_names(store, job_folder, "5: folder of a new set");
  return path;
}

std::string finish_set_folder(Store& store, const std::string& path) {
  for (const char* name : {open_name, reserve_name, unfinished_file}) store.remove(path + "/" + name);
  std::string plain = with_mark(path, "");
  if (plain == path) return path;
  // Cosmetic: a power cut may take it back, the next writer does it again.
  store.rename(path, plain);
  return plain;
}

void put_seals(Store& store, const std::string& folder, const std::string& text) {
  if (text.size() > limits::seal_file)
    throw Error(ErrorKind::failed, "the seal of " + store.describe(folder) + " would become too long");
  for (const char* name : {seal_name, seal_copy_name}) store.put(folder + "/" + name, as_bytes(text));
}

void restate_set(Store& store, const FoundSet& set, const Standing& standing, const SecretKey& master) {
  put_seals(store, set.folder.path, restate_seal(*set.seal, standing, master));
}

void regard_set(Store& store, const FoundSet& set, GuardMark mark, const SecretKey& master) {
  put_seals(store, set.folder.path, regard_seal(*set.seal, mark, master));
}

void rekey_set(Store& store, const FoundSet& set, const std::vector<KeyEntry>& keys,
               const SecretKey& master) {
  put_seals(store, set.folder.path, rekey_seal(*set.seal, keys, master));
}

void remove_set_folder(Store& store, const SetFolder& folder) {
  SetFolder going = folder;
  mark_removing(store, going);
  if (store.traits().renames) flush_names(store, folder_of(going.path), "7: mark of removal");
  remove_seals(store, going.path);
  remove_content(store, going.path);
}

static std::string locate(const Store& store, const FoundSet& set, const SealedFile& file, FileKind kind) {
  const std::string_view ending = kind == FileKind::mend ? parity_ending : volume_ending;
  std::string own = set.folder.path + "/" + file.name;
  bool others = !set.covered.empty() || !set.in_range.empty();
  if (!others || file.set == set.facts().set || store.exists(own)) return own;
  for (const std::vector<SetFolder>* folders : {&set.covered, &set.in_range}) {
    for (const SetFolder& folder : *folders) {
      for (const StoreEntry& entry : store.list(folder.path)) {
        if (entry.folder || entry.size != file.size || !entry.name.ends_with(ending)) continue;
        std::string path = folder.path + "/" + entry.name;
        if (holds_file(store, path, file, kind)) return path;
      }
    }
  }
  return own;
}

std::string locate_file(const Store& store, const FoundSet& set, const SealedFile& file) {
  return locate(store, set, file, FileKind::volume);
}

std::string locate_parity(const Store& store, const FoundSet& set, const SealedParity& parity) {
  return locate(store, set, parity.file, FileKind::mend);
}

std::vector<FileTrouble> look_at_sizes(const Store& store, const FoundSet& set) {
  std::vector<StoreEntry> there = store.list(set.folder.path);
  std::vector<FileTrouble> troubles;
  for (const SealedFile& file : set.seal->core.files) {
    auto found =
        std::lower_bound(there.begin(), there.end(), file.name,
                         [](const StoreEntry& entry, const std::string& name) { return entry.name < name; });
    bool missing = found == there.end() || found->name != file.name;
    if (!missing && found->size == file.size) continue;
    // Taken over by folding, and not moved yet; or a listing that is late.
    bool look = missing && (!set.covered.empty() || !store.traits().lists_at_once);
    if (look && store.exists(locate_file(store, set, file))) continue;
    troubles.push_back({file.slot, file.name, missing});
  }
  return troubles;
}

void finish_fold(Store& store, const FoundSet& folded, const std::function<void()>& guard) {
  for (const SealedFile& file : folded.seal->core.files) {
    std::string at = locate_file(store, folded, file);
    if (!store.exists(at))
      throw damage(store.describe(at) + ", which the folded set needs, is nowhere; the sets it covers stay");
  }
  // The old sets end here: nothing reads them any more, whether or not the rest is reached. None loses
  // anything before all are marked: where only some are, the next writer knows that it is to go on.
  FoundSet set = folded;
  for (SetFolder& folder : set.covered) {
    guard();
    mark_removing(store, folder);
  }
  if (store.traits().renames && !set.covered.empty())
    flush_names(store, folder_of(set.folder.path), "7: mark of removal");
  for (const SetFolder& folder : set.covered) {
    guard();
    remove_seals(store, folder.path);
  }
  for (const SealedFile& file : set.seal->core.files) {
    std::string own = set.folder.path + "/" + file.name;
    std::string at = locate_file(store, set, file);
    if (at != own) store.rename(at, own);
  }
  for (const SealedParity& parity : set.seal->parity) {
    const std::string own = set.folder.path + "/" + parity.file.name;
    const std::string at = locate_parity(store, set, parity);
    if (at != own && store.exists(at)) store.rename(at, own);
  }
  flush_names(store, set.folder.path, "8: files taken over by folding");
  for (const SetFolder& folder : set.covered) {
    guard();
    remove_content(store, folder.path);
  }
}

}  // namespace kestrum
