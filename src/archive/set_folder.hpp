// A set's folder on a store, from its making to its end, in the orders of docs/FORMAT.md sections 2 and 11:
// safe to be killed in, and to lose power in, at any moment.
#pragma once

#include "archive/found_set.hpp"

namespace kestrum {

// Makes the names in a folder durable, unless a test has left out the flush of that name (base/flush_point).
void flush_names(Store& store, const std::string& folder, const char* point);

// Makes the folder of a set to be written, marked as unfinished; returns its path.
std::string begin_set_folder(Store& store, const std::string& job_folder, const std::string& name);

// Takes the unfinished mark off a sealed set. Returns the path it has then.
std::string finish_set_folder(Store& store, const std::string& path);

// Marks it, ends it as a set, then removes what is in it.
void remove_set_folder(Store& store, const SetFolder& folder);

// Writes what a person says of the set's point into its envelope: one seal after the other, each as a whole.
void restate_set(Store& store, const FoundSet& set, const Standing& standing, const SecretKey& master);

// The same with what the guard, or a person, says of the point.
void regard_set(Store& store, const FoundSet& set, GuardMark mark, const SecretKey& master);
// The same with other ways in to the chain's master key.
void rekey_set(Store& store, const FoundSet& set, const std::vector<KeyEntry>& keys, const SecretKey& master);

// Another generation of the seals, one after the other, each as a whole.
void put_seals(Store& store, const std::string& folder, const std::string& text);

// Where a file that the set lists lies: in its own folder, or, taken over from a covered set and not moved
// yet, in the folder of one whose sequence it covers. The path in its own folder when it is nowhere.
std::string locate_file(const Store& store, const FoundSet& set, const SealedFile& file);

// The same of the parity of one of its files.
std::string locate_parity(const Store& store, const FoundSet& set, const SealedParity& parity);

// A file of the set that is missing, or has another size than its seal says.
struct FileTrouble {
  std::uint32_t slot = 0;
  std::string name;
  bool missing = false;
};
// By listing the set's folder once; opens nothing. Of parity nothing: what it belongs to is whole without it.
std::vector<FileTrouble> look_at_sizes(const Store& store, const FoundSet& set);

// Moves what a folded set has taken over into its folder and removes the folders of the sets it covers. Safe
// to be repeated. `guard` is asked before each step that removes something. The caller has authenticated the
// set and found it good. Throws damage, and has removed nothing, when a file that it lists is nowhere.
void finish_fold(Store& store, const FoundSet& folded, const std::function<void()>& guard);

}  // namespace kestrum
