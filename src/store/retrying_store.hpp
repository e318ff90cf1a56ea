// A store that tries again what a network may let pass the second time.
#pragma once

#include <chrono>
#include <functional>

#include "base/error.hpp"
#include "store/forwarding_store.hpp"

namespace kestrum {

struct RetryPolicy {
  unsigned tries = 5;                                     // at least 1
  std::chrono::milliseconds first{250};                   // waited before the second try, then doubled
  std::function<void(std::chrono::milliseconds)> wait{};  // may throw to give up; none: sleeps
};

// Only errors of kind not_reachable are tried again. An operation whose answer was lost may have been done: a
// file that was to be created and has just that content counts as created, what was to be renamed and lies
// where it should as renamed.
class RetryingStore final : public ForwardingStore {
 public:
  RetryingStore(std::unique_ptr<Store> inner, RetryPolicy policy)
      : ForwardingStore(std::move(inner)), policy_(std::move(policy)) {}

  bool exists(const std::string& path) const override;
  std::vector<StoreEntry> list(const std::string& folder) const override;
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override;
  void put(const std::string& path, ByteView content) override;
  void reserve(const std::string& path, std::uint64_t size) override;
  bool create_exclusive(const std::string& path, ByteView content) override;
  void shorten(const std::string& path, std::uint64_t size) override;
  void rename(const std::string& from, const std::string& to) override;
  void remove(const std::string& path) override;
  void remove_all(const std::vector<std::string>& paths) override;
  bool make_folder(const std::string& path) override;
  void remove_folder(const std::string& path) override;
  bool flush_folder(const std::string& path) override;
  StoreSpace space() const override;

 private:
  RetryPolicy policy_;
};

}  // namespace kestrum
