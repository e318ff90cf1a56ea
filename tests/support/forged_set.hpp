// Archive sets of any content and key, made with the project's own writer: what somebody can put on a drive
// who may write there.
#pragma once

#include "archive/catalog_writer.hpp"
#include "archive/job_folder.hpp"
#include "archive/set_writer.hpp"

namespace kestrum::test {

struct ForgedEntry {
  Entry entry;
  std::string content;  // put as one chunk, when the entry has a size and no content list
};

ForgedEntry forged_folder(const std::string& path);
ForgedEntry forged_file(const std::string& path, const std::string& content, std::uint32_t mode = 0644);

struct ForgedSet {
  ForgedSet();
  Id job{};
  std::string machine = "skerry-1";
  std::string name = "job";
  SetFacts facts;  // set, chain: random; a full set, number 1, made now
  std::optional<Digest> previous;
  SecretKey master = SecretKey::random();
  SecretKey naming = SecretKey::random();
  std::vector<KeyEntry> keys;  // none: a clear one
  std::string folder;          // its name; empty: as sets are named
  std::string job_file = "# forged\n";
  std::vector<ForgedEntry> entries;
  // Puts what else is wanted, and may change the entries before they are written.
  std::function<void(SetWriter&, std::vector<ForgedEntry>&)> prepare;
  std::function<void(Seal&)> change;  // the last word before it is sealed
};

// Gives its folder in the store.
std::string forge(Store& store, const std::string& job_folder, const ForgedSet& set);

// The seal of the set in that folder as it stands there.
Seal seal_in(const Store& store, const std::string& set_folder);
// Both seals of that folder, written anew with this key, whatever it holds.
void put_seals(Store& store, const std::string& set_folder, const Seal& seal, const SecretKey& master);

}  // namespace kestrum::test
