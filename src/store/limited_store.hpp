// A store that takes no more than so many bytes: a job's share of a drive ends before the drive does.
#pragma once

#include <atomic>

#include "base/error.hpp"
#include "store/forwarding_store.hpp"

namespace kestrum {

// Passes everything on. What is appended is counted; what would go over the allowance throws Error of kind
// full, as a full drive does. `inner` must outlive this.
class LimitedStore final : public ForwardingStore {
 public:
  explicit LimitedStore(Store& inner) : ForwardingStore(inner) {}
  // Counting starts anew. `limit`: in the words of the message.
  void allow(std::uint64_t bytes, const std::string& limit);
  std::uint64_t written() const { return written_; }
  // Since `allow`, this store (and not some other disk) had no room for something.
  bool was_full() const { return full_; }

  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override;
  void put(const std::string& path, ByteView content) override {
    watch([&] { inner().put(path, content); });
  }
  void reserve(const std::string& path, std::uint64_t size) override {
    watch([&] { inner().reserve(path, size); });
  }
  bool create_exclusive(const std::string& path, ByteView content) override {
    return watch([&] { return inner().create_exclusive(path, content); });
  }
  void shorten(const std::string& path, std::uint64_t size) override {
    watch([&] { inner().shorten(path, size); });
  }
  void rename(const std::string& from, const std::string& to) override {
    watch([&] { inner().rename(from, to); });
  }
  bool make_folder(const std::string& path) override {
    return watch([&] { return inner().make_folder(path); });
  }

 private:
  friend class LimitedWriter;
  void count(std::uint64_t bytes);
  template <typename F>
  auto watch(F&& operation) -> decltype(operation()) {
    try {
      return operation();
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::full) full_ = true;
      throw;
    }
  }

  std::atomic<bool> full_{false};
  std::atomic<std::uint64_t> written_{0};
  std::uint64_t allowed_ = UINT64_MAX;
  std::string limit_;
};

}  // namespace kestrum
