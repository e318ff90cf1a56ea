#include "store/limited_store.hpp"

#include "base/error.hpp"

namespace kestrum {

class LimitedWriter final : public StoreWriter {
 public:
  LimitedWriter(std::unique_ptr<StoreWriter> inner, LimitedStore& store)
      : inner_(std::move(inner)), store_(store) {}
  void append(ByteView data) override {
    store_.count(data.size());
    inner_->append(data);
  }
  void finish() override { inner_->finish(); }

 private:
  std::unique_ptr<StoreWriter> inner_;
  LimitedStore& store_;
};

void LimitedStore::allow(std::uint64_t bytes, const std::string& limit) {
  written_ = 0;
  allowed_ = bytes;
  limit_ = limit;
}

void LimitedStore::count(std::uint64_t bytes) {
  written_ += bytes;
  if (written_ > allowed_) throw Error(ErrorKind::full, limit_ + " is reached");
}

std::unique_ptr<StoreWriter> LimitedStore::create(const std::string& path) {
  return std::make_unique<LimitedWriter>(inner_.create(path), *this);
}

}  // namespace kestrum
