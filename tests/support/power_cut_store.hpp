// A store in memory that knows what is on the drive and what only seems to be: content that was not flushed,
// and names (made, renamed, removed) that were not. Then the power goes, and of what was not flushed each
// thing is kept, dropped or garbled on its own.
#pragma once

#include <map>
#include <memory>
#include <random>

#include "store/store.hpp"

namespace kestrum::test {

// From the operation on at which the power goes, every one fails.
class PowerCutStore final : public Store {
 public:
  struct Node {
    bool folder = false;
    Bytes now, durable;  // content
    std::map<std::string, std::shared_ptr<Node>> names, durable_names;
  };
  // A name that was made, taken away or moved, and is not flushed yet.
  struct NameChange {
    std::shared_ptr<Node> from, to;  // folders; nullptr: made, or taken away
    std::string old_name, new_name;
    std::shared_ptr<Node> what;
  };
  struct Disk {
    std::shared_ptr<Node> root;
    std::vector<NameChange> pending;
    std::uint64_t operations = 0;
    std::uint64_t cut_at = 0;          // the n-th changing operation; 0: never
    std::uint64_t fail_rename_at = 0;  // the n-th rename of a folder fails; 0: none
    std::uint64_t folder_renames = 0;
    Disk()
        : root(std::make_shared<Node>(
              Node{.folder = true, .now = {}, .durable = {}, .names = {}, .durable_names = {}})) {}
    // All is flushed.
    void settle();
    // The power goes; what comes back. `keep`: of 100, how likely each unflushed thing is kept.
    void cut(unsigned keep, std::mt19937& random);
    std::shared_ptr<Disk> copy() const;
  };

  explicit PowerCutStore(std::shared_ptr<Disk> disk) : disk_(std::move(disk)) {}
  std::string describe(const std::string& path) const override { return "disk:" + path; }
  bool exists(const std::string& path) const override { return find(path) != nullptr; }
  std::vector<StoreEntry> list(const std::string& folder) const override;
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override;
  void reserve(const std::string& path, std::uint64_t size) override;
  bool create_exclusive(const std::string& path, ByteView content) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove(const std::string& path) override;
  bool make_folder(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  bool flush_folder(const std::string& path) override;
  StoreSpace space() const override { return {1u << 30, 1u << 30}; }

 private:
  friend class PowerCutWriter;
  void step();
  std::shared_ptr<Node> find(const std::string& path) const;
  std::shared_ptr<Node> folder_above(const std::string& path) const;
  std::shared_ptr<Node> make(const std::string& path, bool folder);
  std::shared_ptr<Disk> disk_;
};

}  // namespace kestrum::test
