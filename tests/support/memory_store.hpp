// Stores for tests: one in memory, one that fails on demand, one that counts what is read.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <set>

#include "base/error.hpp"
#include "store/store.hpp"

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
  std::unique_ptr<StoreReader> open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  void reserve(const std::string& path, std::uint64_t size) override;
  bool create_exclusive(const std::string& path, ByteView content) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove(const std::string& path) override;
  void make_folder(const std::string& path) override;
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
};

// Passes on to another store; counts the operations that change something (a write, a flush, a rename ...).
class FaultStore final : public Store {
 public:
  struct State {
    Fault fault;
    std::uint64_t done = 0;
    void step(const std::string& what);
    bool hits();
  };
  FaultStore(std::unique_ptr<Store> inner, std::shared_ptr<State> state)
      : inner_(std::move(inner)), state_(std::move(state)) {}
  std::string describe(const std::string& path) const override { return inner_->describe(path); }
  bool exists(const std::string& path) const override { return inner_->exists(path); }
  std::vector<StoreEntry> list(const std::string& folder) const override { return inner_->list(folder); }
  std::unique_ptr<StoreReader> open(const std::string& path) const override { return inner_->open(path); }
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  void reserve(const std::string& path, std::uint64_t size) override;
  bool create_exclusive(const std::string& path, ByteView content) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove(const std::string& path) override;
  void make_folder(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  bool flush_folder(const std::string& path) override;
  StoreSpace space() const override { return inner_->space(); }

 private:
  std::unique_ptr<Store> inner_;
  std::shared_ptr<State> state_;
};

// Counts bytes read, by file name.
class CountingStore final : public Store {
 public:
  using Counts = std::map<std::string, std::uint64_t>;
  CountingStore(std::unique_ptr<Store> inner, std::shared_ptr<Counts> counts)
      : inner_(std::move(inner)), counts_(std::move(counts)) {}
  std::string describe(const std::string& path) const override { return inner_->describe(path); }
  bool exists(const std::string& path) const override { return inner_->exists(path); }
  std::vector<StoreEntry> list(const std::string& folder) const override { return inner_->list(folder); }
  std::unique_ptr<StoreReader> open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override { return inner_->create(path); }
  void reserve(const std::string& path, std::uint64_t size) override { inner_->reserve(path, size); }
  bool create_exclusive(const std::string& path, ByteView content) override {
    return inner_->create_exclusive(path, content);
  }
  void rename(const std::string& from, const std::string& to) override { inner_->rename(from, to); }
  void remove(const std::string& path) override { inner_->remove(path); }
  void make_folder(const std::string& path) override { inner_->make_folder(path); }
  void remove_folder(const std::string& path) override { inner_->remove_folder(path); }
  bool flush_folder(const std::string& path) override { return inner_->flush_folder(path); }
  StoreSpace space() const override { return inner_->space(); }

 private:
  std::unique_ptr<Store> inner_;
  std::shared_ptr<Counts> counts_;
};

}  // namespace kestrum::test
