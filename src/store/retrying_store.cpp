#include "store/retrying_store.hpp"

#include <thread>

namespace kestrum {
namespace {

template <typename F>
auto retried(const RetryPolicy& policy, F&& operation) -> decltype(operation()) {
  std::chrono::milliseconds pause = policy.first;
  for (unsigned tries = 1;; ++tries) {
    try {
      return operation();
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::not_reachable || tries >= policy.tries) throw;
    }
    if (policy.wait) {
      policy.wait(pause);
    } else {
      std::this_thread::sleep_for(pause);
    }
    pause *= 2;
  }
}

class RetryingReader final : public StoreReader {
 public:
  RetryingReader(std::unique_ptr<StoreReader> inner, const RetryPolicy& policy)
      : inner_(std::move(inner)), policy_(policy) {}
  std::uint64_t size() const override { return inner_->size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    retried(policy_, [&] { inner_->read_at(offset, out); });
  }
  void drop_cache() const override { inner_->drop_cache(); }

 private:
  std::unique_ptr<StoreReader> inner_;
  RetryPolicy policy_;
};

class RetryingWriter final : public StoreWriter {
 public:
  RetryingWriter(std::unique_ptr<StoreWriter> inner, const RetryPolicy& policy)
      : inner_(std::move(inner)), policy_(policy) {}
  void append(ByteView data) override {
    retried(policy_, [&] { inner_->append(data); });
  }
  void flush() override {
    retried(policy_, [&] { inner_->flush(); });
  }
  void finish() override {
    retried(policy_, [&] { inner_->finish(); });
  }

 private:
  std::unique_ptr<StoreWriter> inner_;
  RetryPolicy policy_;
};

}  // namespace

bool RetryingStore::exists(const std::string& path) const {
  return retried(policy_, [&] { return inner().exists(path); });
}
std::vector<StoreEntry> RetryingStore::list(const std::string& folder) const {
  return retried(policy_, [&] { return inner().list(folder); });
}
std::unique_ptr<StoreReader> RetryingStore::try_open(const std::string& path) const {
  std::unique_ptr<StoreReader> file = retried(policy_, [&] { return inner().try_open(path); });
  if (!file) return nullptr;
  return std::make_unique<RetryingReader>(std::move(file), policy_);
}
std::unique_ptr<StoreWriter> RetryingStore::create(const std::string& path) {
  return std::make_unique<RetryingWriter>(retried(policy_, [&] { return inner().create(path); }), policy_);
}
std::unique_ptr<StoreWriter> RetryingStore::reopen(const std::string& path) {
  return std::make_unique<RetryingWriter>(retried(policy_, [&] { return inner().reopen(path); }), policy_);
}
void RetryingStore::put(const std::string& path, ByteView content) {
  retried(policy_, [&] { inner().put(path, content); });
}
void RetryingStore::reserve(const std::string& path, std::uint64_t size) {
  retried(policy_, [&] { inner().reserve(path, size); });
}
bool RetryingStore::create_exclusive(const std::string& path, ByteView content) {
  bool again = false;
  return retried(policy_, [&] {
    bool before = std::exchange(again, true);
    if (inner().create_exclusive(path, content)) return true;
    if (!before) return false;
    std::optional<Bytes> there = inner().try_read_all(path, content.size());
    return there && std::equal(there->begin(), there->end(), content.begin(), content.end());
  });
}
void RetryingStore::shorten(const std::string& path, std::uint64_t size) {
  retried(policy_, [&] { inner().shorten(path, size); });
}
void RetryingStore::rename(const std::string& from, const std::string& to) {
  bool again = false;
  retried(policy_, [&] {
    bool before = std::exchange(again, true);
    if (before && !inner().exists(from) && inner().exists(to)) return;
    inner().rename(from, to);
  });
}
void RetryingStore::remove(const std::string& path) {
  retried(policy_, [&] { inner().remove(path); });
}
void RetryingStore::remove_all(const std::vector<std::string>& paths) {
  try {
    return inner().remove_all(paths);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::not_reachable) throw;
  }
  // All of them again would fail again where they are many: one by one it gets on.
  for (const std::string& path : paths) remove(path);
}
bool RetryingStore::make_folder(const std::string& path) {
  return retried(policy_, [&] { return inner().make_folder(path); });
}
void RetryingStore::remove_folder(const std::string& path) {
  bool again = false;
  retried(policy_, [&] {
    bool before = std::exchange(again, true);
    if (!before || inner().exists(path)) inner().remove_folder(path);
  });
}
bool RetryingStore::flush_folder(const std::string& path) {
  return retried(policy_, [&] { return inner().flush_folder(path); });
}
StoreSpace RetryingStore::space() const {
  return retried(policy_, [&] { return inner().space(); });
}

}  // namespace kestrum
