// A store that behaves as one for objects across a network does: whole objects only, no renaming, no
// appending, no folders, listings that are late, errors that pass. Its objects lie in a folder, so that they
// outlive a process that is killed.
#pragma once

#include <atomic>
#include <chrono>

#include "store/retrying_store.hpp"

namespace kestrum::test {

struct ObjectStoreHabits {
  std::chrono::milliseconds late{20};  // so long a listing does not know what was put or removed
  unsigned error_every = 7;  // so many calls; 0: never. Every other time the work is done all the same
};

class ObjectStore final : public Store {
 public:
  ObjectStore(std::string root, ObjectStoreHabits habits) : root_(std::move(root)), habits_(habits) {}
  StoreTraits traits() const override {
    return {.renames = false,
            .flushes_folders = false,
            .reserves = false,
            .appends = false,
            .knows_space = true,
            .lists_at_once = false};
  }
  std::string describe(const std::string& path) const override { return "object " + path; }
  bool exists(const std::string& path) const override;
  std::vector<StoreEntry> list(const std::string& folder) const override;
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override;
  void put(const std::string& path, ByteView content) override;
  void reserve(const std::string& path, std::uint64_t size) override;
  bool create_exclusive(const std::string& path, ByteView content) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove(const std::string& path) override;
  bool make_folder(const std::string&) override { return false; }
  void remove_folder(const std::string&) override {}
  bool flush_folder(const std::string&) override { return true; }
  StoreSpace space() const override;

 private:
  friend class ObjectWriter;
  // Calls `work`, or throws not_reachable before or after it.
  template <typename F>
  auto ask(F&& work) const -> decltype(work());
  std::string full(const std::string& path) const { return path.empty() ? root_ : root_ + "/" + path; }
  std::string grave(const std::string& path) const;
  std::string upload(ByteView content) const;
  std::string root_;
  ObjectStoreHabits habits_;
  mutable std::atomic<unsigned> calls_{0};
};

// The same with retries, which do not wait.
std::unique_ptr<Store> open_object_store(const std::string& root, ObjectStoreHabits habits = {});

}  // namespace kestrum::test
