// Reads one sealed set: its root, its index, its frames. Needs a store and a key, nothing else.
#pragma once

#include <list>
#include <map>
#include <unordered_map>

#include "archive/index_record.hpp"
#include "archive/set_folder.hpp"

namespace kestrum {

// One thread. Throws Error of kind damage for whatever does not read as it was written.
class SetReader {
 public:
  // The seal is authenticated here: damage when it does not carry this key's mark. The store must outlive
  // this.
  SetReader(const Store& store, std::shared_ptr<const FoundSet> set, const SecretKey& master);

  const Seal& seal() const { return *seal_; }
  const SetFacts& facts() const { return seal_->core.facts; }
  const SetFolder& folder() const { return found_->folder; }
  const FoundSet& found() const { return *found_; }
  // Opened at the first call.
  const Root& root();
  const SecretKey& naming_key();
  const Store& store() const { return store_; }

  // Where the chunk lies in this set, if it does. Reads one or two small pages.
  std::optional<IndexRecord> find(const ChunkName& name);
  // How many each_record() will give, for room to be made: by its first page, so a hint only.
  std::size_t about_records();
  // Every record of the index, in order of names.
  void each_record(const std::function<void(const IndexRecord&)>& next);

  // Index pages kept in memory; a chain shares a budget among its sets.
  void limit_pages(std::size_t pages) { page_limit_ = pages; }

  // Opens the file, checking its identity. The pointer lives as long as this.
  FrameFileReader& file(std::uint32_t slot);
  const SealedFile* sealed_file(std::uint32_t slot) const;
  // In the store, wherever it lies now.
  std::string parity_path(const SealedParity& parity) const { return locate_parity(store_, *found_, parity); }

  // Files that are missing, or have the wrong size: opens them, reads no content. What is missing counts as
  // lost.
  std::vector<std::string> check_sizes();
  // Places known to be unreadable: chunks there count as absent.
  void mark_lost(const LostPlaces& lost) { lost_.add(lost); }
  bool is_lost(const IndexRecord& record) const { return lost_.covers(record.slot, record.frame.offset); }
  bool index_is_lost() const { return lost_.slots.contains(0); }
  bool has_losses() const { return !lost_.empty(); }

 private:
  const std::vector<FencePost>& fence();
  const Bytes& index_page(const FencePost& post);

  const Store& store_;
  std::shared_ptr<const FoundSet> found_;
  const Seal* seal_;  // of found_, whichever is ours
  SecretKey master_;
  std::optional<Root> root_;
  std::optional<SecretKey> naming_key_;
  std::map<std::uint32_t, std::unique_ptr<FrameFileReader>> files_;
  LostPlaces lost_;
  std::optional<std::vector<FencePost>> fence_;
  // Pages used last come first.
  std::size_t page_limit_ = 512;  // 16 KiB each
  std::list<std::pair<std::uint64_t, Bytes>> pages_;
  std::unordered_map<std::uint64_t, std::list<std::pair<std::uint64_t, Bytes>>::iterator> page_at_;
};

}  // namespace kestrum
