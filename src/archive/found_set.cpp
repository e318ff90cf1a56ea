#include "archive/found_set.hpp"

#include <algorithm>

namespace kestrum {
namespace {

// Reads the two seals of a folder into what was found of it.
class SealPair {
 public:
  SealPair(const Store& store, FoundSet& found, const Id& job) : store_(store), found_(found), job_(job) {}

  void read() {
    for (const char* name : {seal_name, seal_copy_name}) {
      try {
        look_at(found_.folder.path + "/" + name);
      } catch (const Error& error) {
        if (error.kind() == ErrorKind::damage) {
          found_.findings.emplace_back(error.what());
        } else if (is_of_the_system(error) && !does_not_read(error)) {
          throw;
        } else {
          found_.refusal = error;
        }
      }
    }
    if (found_.seal) found_.refusal.reset();
  }
  bool any_missing() const { return missing_ > 0; }
  bool none_there() const { return missing_ == 2; }

 private:
  void look_at(const std::string& path) {
    if (found_.seal && store_.holds(path, found_.seal->checked.file).value_or(false)) return;
    std::optional<Bytes> bytes = store_.try_read_all(path, limits::seal_file);
    if (!bytes) {
      ++missing_;
      return;
    }
    Seal seal = decode_seal(std::move(*bytes), store_.describe(path));
    if (seal.core.job != job_) {
      found_.findings.push_back(store_.describe(path) + " belongs to another job");
    } else if (seal.core.facts.sequence != found_.folder.sequence) {
      found_.findings.push_back(store_.describe(path) + " belongs to another set");
    } else if (!found_.seal) {
      found_.seal = std::move(seal);
    } else {
      // A rewrite that was interrupted leaves a newer generation in one of them; anything else is damage.
      bool newer = seal.generation > found_.seal->generation;
      if (seal.generation == found_.seal->generation)
        found_.findings.push_back(store_.describe(path) + " is not the same as its twin");
      found_.twin = std::move(seal);
      if (newer) std::swap(found_.seal, found_.twin);
    }
  }

  const Store& store_;
  FoundSet& found_;
  const Id& job_;
  int missing_ = 0;
};

// Nothing of what a late listing shows is there any more.
bool has_vanished(const Store& store, const std::string& folder) {
  for (const StoreEntry& entry : store.list(folder)) {
    if (store.exists(folder + "/" + entry.name)) return false;
  }
  return true;
}

// A folded set takes the place of what it covers.
bool supersedes(const SetFacts& folded, const SetFacts& other) {
  bool wider = folded.covers_from() < other.covers_from() || folded.sequence > other.sequence;
  return folded.folded_from && folded.chain == other.chain && folded.covers_from() <= other.covers_from() &&
         other.sequence <= folded.sequence && wider;
}

}  // namespace

std::optional<FoundSet> read_set(const Store& store, const SetFolder& folder, const Id& job) {
  FoundSet found;
  found.folder = folder;
  // Marks are put on names of ours only: anything else that has one is a copy that somebody made.
  if (!folder.named_by_rule && (folder.unfinished || folder.removing)) return std::nullopt;
  if (folder.removing) return found;
  SealPair seals(store, found, job);
  seals.read();
  if (seals.any_missing() && store.traits().renames) {
    // One that was brought here from a place where marks are files.
    SetFolder& marked = found.folder;
    if (!marked.unfinished) marked.unfinished = store.exists(folder.path + "/" + unfinished_file);
    if (!marked.removing) marked.removing = store.exists(folder.path + "/" + removing_file);
    if (marked.removing) {
      FoundSet going;
      going.folder = marked;
      return going;
    }
  }
  const SetFolder& now = found.folder;
  if (seals.none_there() && !now.named_by_rule) return std::nullopt;
  // A missing copy beside a valid seal is what a run killed at the very end leaves; beside a broken one it is
  // damage.
  if (seals.any_missing() && found.seal && !now.unfinished)
    found.findings.push_back("one of the two seals in " + store.describe(folder.path) + " is missing");
  if (!found.seal && !now.unfinished && found.findings.empty() && !found.refusal) {
    if (!store.traits().lists_at_once && has_vanished(store, folder.path)) return std::nullopt;
    found.findings.push_back(store.describe(folder.path) + " has no seal");
  }
  return found;
}

SetList::SetList(const Store& store, std::string job_folder, const Id& job, const std::string& remembered)
    : job_folder_(std::move(job_folder)), job_(job) {
  bool there = remembered.empty();
  for (const SetFolder& folder : list_set_folders(store, job_folder_, &strangers_)) {
    names_.push_back(folder.name);
    there = there || folder.name == remembered;
    if (std::optional<FoundSet> found = read_set(store, folder, job_)) {
      read_.push_back(std::make_shared<FoundSet>(std::move(*found)));
    } else if (!folder.named_by_rule) {
      strangers_.push_back(folder.name);
    }
  }
  settle();
  if (there || store.traits().lists_at_once) return;
  std::optional<SetFolder> folder = parse_set_folder(job_folder_, remembered);
  if (folder && store.exists(folder->path + "/" + seal_name)) take_up(store, remembered);
}

bool SetList::is_current(const Store& store) const {
  std::vector<std::string> now;
  for (const SetFolder& folder : list_set_folders(store, job_folder_)) now.push_back(folder.name);
  return now == names_;
}

void SetList::take_up(const Store& store, const std::string& name) {
  std::optional<SetFolder> folder = parse_set_folder(job_folder_, name);
  if (!folder) return;
  std::erase_if(read_, [&](const auto& set) { return set->folder.path == folder->path; });
  if (std::optional<FoundSet> found = read_set(store, *folder, job_))
    read_.push_back(std::make_shared<FoundSet>(std::move(*found)));
  settle();
}

void SetList::forget(const std::string& path) {
  std::erase_if(read_, [&](const auto& set) { return set->folder.path == path; });
  settle();
}

std::vector<std::string> SetList::strangers() const {
  std::vector<std::string> names = strangers_;
  for (const auto& set : sets_) {
    if (set->twice) names.push_back(set->folder.name);
  }
  return names;
}

void SetList::amend(const std::function<bool(FoundSet&)>& change) {
  bool changed = false;
  for (std::shared_ptr<const FoundSet>& set : read_) {
    auto copy = std::make_shared<FoundSet>(*set);
    if (!change(*copy)) continue;
    set = std::move(copy);
    changed = true;
  }
  if (changed) settle();
}

// What counts of what was read: folded sets supersede what they cover, and of two sets of one number the
// first stays.
void SetList::settle() {
  std::stable_sort(read_.begin(), read_.end(),
                   [](const auto& a, const auto& b) { return a->folder.sequence < b->folder.sequence; });
  sets_ = read_;
  std::vector<std::shared_ptr<FoundSet>> changed(sets_.size());
  auto change = [&](std::size_t i) -> FoundSet& {
    if (!changed[i]) changed[i] = std::make_shared<FoundSet>(*read_[i]);
    return *changed[i];
  };
  for (std::size_t i = 0; i < read_.size(); ++i) {
    const std::optional<Seal>& folded = changed[i] ? changed[i]->seal : read_[i]->seal;
    if (!folded || !folded->core.facts.folded_from) continue;
    const SetFacts facts = folded->core.facts;
    auto at =
        std::lower_bound(read_.begin(), read_.end(), facts.covers_from(),
                         [](const auto& set, Sequence sequence) { return set->folder.sequence < sequence; });
    for (auto k = static_cast<std::size_t>(at - read_.begin());
         k < read_.size() && read_[k]->folder.sequence <= facts.sequence; ++k) {
      if (k == i) continue;
      const FoundSet& other = *read_[k];
      if (other.seal && !supersedes(facts, other.seal->core.facts)) continue;
      // Without a seal: what the finishing of the fold has left, or whatever else lies in the range; there
      // too a file that was taken over may be.
      if (!other.seal && !other.folder.removing) {
        change(i).in_range.push_back(other.folder);
        continue;
      }
      change(i).covered.push_back(other.folder);
      FoundSet& lower = change(k);
      if (!lower.seal) continue;
      change(i).covers.push_back(lower.facts().set);
      lower.superseded = std::move(lower.seal);
      lower.seal.reset();
      lower.findings.clear();
    }
  }
  for (std::size_t i = 0; i < sets_.size(); ++i) {
    if (changed[i]) sets_[i] = changed[i];
  }
  sealed_.clear();
  by_sequence_.clear();
  std::vector<const SetFacts*> facts;
  for (std::size_t i = 0; i < sets_.size(); ++i) {
    if (!sets_[i]->sealed()) continue;
    Sequence sequence = sets_[i]->folder.sequence;
    if (!by_sequence_.emplace(sequence, i).second) {
      auto twice = std::make_shared<FoundSet>(*sets_[i]);
      twice->seal.reset();
      twice->twice = true;
      sets_[i] = std::move(twice);
      continue;
    }
    sealed_.push_back(i);
    facts.push_back(&sets_[i]->facts());
  }
  needs_ = SetNeeds(std::move(facts));
}

const FoundSet* SetList::sealed(Sequence sequence) const {
  auto found = by_sequence_.find(sequence);
  return found == by_sequence_.end() ? nullptr : sets_[found->second].get();
}

const FoundSet* SetList::newest_trusted() const {
  const auto place = std::find_if(sealed_.rbegin(), sealed_.rend(),
                                  [&](std::size_t i) { return !sets_[i]->facts().doubted(); });
  return place == sealed_.rend() ? nullptr : sets_[*place].get();
}

std::shared_ptr<const FoundSet> SetList::shared(Sequence sequence) const {
  auto found = by_sequence_.find(sequence);
  return found == by_sequence_.end() ? nullptr : sets_[found->second];
}

const FoundSet* SetList::meeting(const SetNeed& need, const Id& chain) const {
  std::size_t place = needs_.meeting(need, chain);
  return place == SetNeeds::none ? nullptr : &sealed_at(place);
}

}  // namespace kestrum
