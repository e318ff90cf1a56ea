// What a set's folder turned out to hold, and the list of all of a job's: read once, kept true afterwards.
#pragma once

#include <functional>
#include <map>

#include "archive/job_folder.hpp"
#include "base/error.hpp"
#include "base/set_needs.hpp"

namespace kestrum {

// Why a set that lies among a job's own is none of them: docs/FORMAT.md, "Whose a set is".
enum class NotOurs {
  clear,     // no key keeps others out of it, in a job that is encrypted
  unknown,   // of a chain that this machine does not know and that nothing has opened
  closed,    // the key at hand does not open it
  replaced,  // its chain opens to another key than this machine remembers
  forged,    // not written with its chain's key
};

struct FoundSet {
  SetFolder folder;
  std::optional<Seal> seal;           // form and digests hold; authenticity is asked with the key
  std::optional<Seal> twin;           // the other one, when both read but differ: the key tells which is ours
  std::vector<std::string> findings;  // what is wrong with the seals, in plain words
  std::optional<Error> refusal;       // written by something newer, or no seal can be read just now
  bool twice = false;                 // a copy: another one of its number counts
  std::optional<NotOurs> not_ours;    // it counts for nothing; its seal is `left_out` then, `seal` is none
  std::optional<Seal> left_out;
  std::optional<Seal> superseded;   // its seal, when a folded set covers it: then `seal` is none
  std::vector<SetFolder> covered;   // folded: folders of the sets it covers that are still there
  std::vector<Id> covers;           // folded: those sets of them whose seals are still there
  std::vector<SetFolder> in_range;  // folded: all other folders whose sequence it covers
  bool sealed() const { return seal.has_value(); }
  const SetFacts& facts() const { return seal->core.facts; }  // when sealed
};

// Opens each of the two seals once and decodes the second only where its bytes differ. `job`: seals of other
// jobs do not count. Nothing when it is no set: a late listing shows a folder that is gone, or the name is
// not as sets are named and there is no seal in it.
std::optional<FoundSet> read_set(const Store& store, const SetFolder& folder, const Id& job);

// All sets of a job's folder, in order of sequence. Copies share what was read. Sets are looked up in time
// logarithmic in their number. References to its sets stay good until the list changes.
class SetList {
 public:
  SetList() = default;
  // `remembered`: the folder name of a set that was made here and that a late listing may not show yet;
  // empty: none. The store is not kept.
  SetList(const Store& store, std::string job_folder, const Id& job, const std::string& remembered = {});

  class Iterator {
   public:
    explicit Iterator(const std::shared_ptr<const FoundSet>* at) : at_(at) {}
    const FoundSet& operator*() const { return **at_; }
    const FoundSet* operator->() const { return at_->get(); }
    Iterator& operator++() {
      ++at_;
      return *this;
    }
    bool operator==(const Iterator&) const = default;

   private:
    const std::shared_ptr<const FoundSet>* at_;
  };
  Iterator begin() const { return Iterator(sets_.data()); }
  Iterator end() const { return Iterator(sets_.data() + sets_.size()); }
  bool empty() const { return sets_.empty(); }
  std::size_t size() const { return sets_.size(); }
  const FoundSet& operator[](std::size_t i) const { return *sets_[i]; }
  // Folders beside the sets that count for nothing and are left alone: somebody else's, and copies of sets.
  // Names as they are on the drive.
  std::vector<std::string> strangers() const;

  // nullptr when there is none.
  const FoundSet* sealed(Sequence sequence) const;
  const FoundSet* newest() const { return sealed_.empty() ? nullptr : sets_[sealed_.back()].get(); }
  // The newest that nobody doubts; where all are doubted, nullptr.
  const FoundSet* newest_trusted() const;
  const FoundSet* meeting(const SetNeed& need, const Id& chain) const;
  std::shared_ptr<const FoundSet> shared(Sequence sequence) const;

  // The sealed ones: who needs whom. Its places are those of `sealed_at`.
  const SetNeeds& needs() const { return needs_; }
  const FoundSet& sealed_at(std::size_t place) const { return *sets_[sealed_[place]]; }
  // What that point needs besides its own set.
  SetNeeds::Closure needs_of(const FoundSet& set) const { return needs_.closure(set.facts()); }

  // The job's folder holds the same folders as when it was read: nobody has removed, folded or added sets
  // since.
  bool is_current(const Store& store) const;

  // Kept true by whoever changes the folder. `take_up` reads one folder, new or changed, under its name of
  // now.
  void take_up(const Store& store, const std::string& name);
  void forget(const std::string& path);
  // Gives each set as it was read to `change`, which may change a copy and say so; what counts is found anew.
  void amend(const std::function<bool(FoundSet&)>& change);

 private:
  void settle();
  std::string job_folder_;
  Id job_{};
  std::vector<std::string> names_;  // of all folders, as they were read
  std::vector<std::string> strangers_;
  std::vector<std::shared_ptr<const FoundSet>> read_;  // as they were read
  std::vector<std::shared_ptr<const FoundSet>> sets_;  // what counts of them
  std::vector<std::size_t> sealed_;                    // places in sets_
  std::map<Sequence, std::size_t> by_sequence_;        // of sealed ones
  SetNeeds needs_;
};

}  // namespace kestrum
