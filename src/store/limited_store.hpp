// A store that takes no more than so many bytes: a job's share of a drive ends before the drive does.
#pragma once

#include <atomic>

#include "base/error.hpp"
#include "store/store.hpp"

namespace kestrum {

// Passes everything on. What is appended is counted; what would go over the allowance throws Error of kind
// full, as a full drive does. `inner` must outlive this.
class LimitedStore final : public Store {
 public:
  explicit LimitedStore(Store& inner) : inner_(inner) {}
  // Counting starts anew. `limit`: in the words of the message.
  void allow(std::uint64_t bytes, const std::string& limit);
  std::uint64_t written() const { return written_; }
  // Since `allow`, this store (and not some other disk) had no room for something.
  bool was_full() const { return full_; }

  std::string describe(const std::string& path) const override { return inner_.describe(path); }
  bool exists(const std::string& path) const override { return inner_.exists(path); }
  std::vector<StoreEntry> list(const std::string& folder) const override { return inner_.list(folder); }
  std::unique_ptr<StoreReader> open(const std::string& path) const override { return inner_.open(path); }
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  void reserve(const std::string& path, std::uint64_t size) override {
    watch([&] { inner_.reserve(path, size); });
  }
  bool create_exclusive(const std::string& path, ByteView content) override {
    return watch([&] { return inner_.create_exclusive(path, content); });
  }
  void rename(const std::string& from, const std::string& to) override {
    watch([&] { inner_.rename(from, to); });
  }
  void remove(const std::string& path) override { inner_.remove(path); }
  void make_folder(const std::string& path) override {
    watch([&] { inner_.make_folder(path); });
  }
  void make_private(const std::string& folder) override { inner_.make_private(folder); }
  void remove_folder(const std::string& path) override { inner_.remove_folder(path); }
  bool flush_folder(const std::string& path) override { return inner_.flush_folder(path); }
  StoreSpace space() const override { return inner_.space(); }

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

  Store& inner_;
  std::atomic<bool> full_{false};
  std::atomic<std::uint64_t> written_{0};
  std::uint64_t allowed_ = UINT64_MAX;
  std::string limit_;
};

}  // namespace kestrum
