// Stores for tests: one in memory, one that fails on demand, one that counts what is read.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <set>

#include "base/error.hpp"
#include "store/forwarding_store.hpp"

namespace kestrum::test {

// Files by path, shared by copies: a test keeps one and hands another out.
class MemoryStore final : public Store {
 public:
  using Files = std::map<std::string, Bytes>;
  MemoryStore() : files_(std::make_shared<Files>()), folders_(std::make_shared<std::set<std::string>>()) {}
  // Everything below a folder of this machine.
  static MemoryStore load(const std::string& folder);
  Files& files() { return *files_; }
  std::set<std::string>& folders() { return *folders_; }

  std::string describe(const std::string& path) const override { return "memory:" + path; }
  bool exists(const std::string& path) const override;
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
  bool flush_folder(const std::string&) override { return true; }
  StoreSpace space() const override { return {1u << 30, 1u << 30}; }

 private:
  std::shared_ptr<Files> files_;
  std::shared_ptr<std::set<std::string>> folders_;
};

// What a FaultStore does at its moment.
struct Fault {
  std::uint64_t at = 0;   // the n-th changing operation, from 1; 0 never
  bool for_ever = false;  // every one from then on
  int code = 28;          // errno: ENOSPC
  bool torn = false;      // a write leaves half of its data
  bool reads = false;     // of those that read instead: an opening, a read, a listing
};

// Passes on to another store; counts the operations that change something (a write, a flush, a rename ...),
// or those that read.
class FaultStore final : public ForwardingStore {
 public:
  struct State {
    Fault fault;
    std::function<void()> strike = {};  // instead of failing: what happens to the world at that moment
    std::uint64_t done = 0;
    void step(const std::string& what);
    void read_step(const std::string& what);
    bool hits(bool reading = false);
  };
  FaultStore(std::unique_ptr<Store> inner, std::shared_ptr<State> state)
      : ForwardingStore(std::move(inner)), state_(std::move(state)) {}
  std::vector<StoreEntry> list(const std::string& folder) const override;
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override;
  // Step by step, where the store has these steps.
  void put(const std::string& path, ByteView content) override;
  void reserve(const std::string& path, std::uint64_t size) override;
  bool create_exclusive(const std::string& path, ByteView content) override;
  void shorten(const std::string& path, std::uint64_t size) override { Store::shorten(path, size); }
  void rename(const std::string& from, const std::string& to) override;
  void remove(const std::string& path) override;
  void remove_all(const std::vector<std::string>& paths) override { Store::remove_all(paths); }
  bool make_folder(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  bool flush_folder(const std::string& path) override;

 private:
  std::shared_ptr<State> state_;
};

// Counts bytes read, by file name, and how often each was opened.
class CountingStore final : public ForwardingStore {
 public:
  struct Counts {
    std::mutex counting;  // files are read by several threads
    std::map<std::string, std::uint64_t> bytes;
    std::map<std::string, std::uint64_t> opened;
    // Of files of that name, in whatever folder.
    std::uint64_t opened_named(const std::string& name) const;
  };
  CountingStore(std::unique_ptr<Store> inner, std::shared_ptr<Counts> counts)
      : ForwardingStore(std::move(inner)), counts_(std::move(counts)) {}
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override;

 private:
  std::shared_ptr<Counts> counts_;
};

}  // namespace kestrum::test
