#include "store/limited_store.hpp"

namespace kestrum {

class LimitedWriter final : public StoreWriter {
 public:
  LimitedWriter(std::unique_ptr<StoreWriter> inner, LimitedStore& store)
      : inner_(std::move(inner)), store_(store) {}
  void append(ByteView data) override {
    store_.watch([&] {
      store_.count(data.size());
      inner_->append(data);
    });
  }
  void flush() override {
    store_.watch([&] { inner_->flush(); });
  }
  void finish() override {
    store_.watch([&] { inner_->finish(); });
  }

 private:
  std::unique_ptr<StoreWriter> inner_;
  LimitedStore& store_;
};

void LimitedStore::allow(std::uint64_t bytes, const std::string& limit) {
  written_ = 0;
  full_ = false;
  allowed_ = bytes;
  limit_ = limit;
}

void LimitedStore::count(std::uint64_t bytes) {
  written_ += bytes;
  if (written_ > allowed_) throw Error(ErrorKind::full, limit_ + " is reached");
}

std::unique_ptr<StoreWriter> LimitedStore::create(const std::string& path) {
  return watch([&] { return std::make_unique<LimitedWriter>(inner().create(path), *this); });
}

std::unique_ptr<StoreWriter> LimitedStore::reopen(const std::string& path) {
  return watch([&] { return std::make_unique<LimitedWriter>(inner().reopen(path), *this); });
}

}  // namespace kestrum
