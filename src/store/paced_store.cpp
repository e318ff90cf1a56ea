#include "store/paced_store.hpp"

namespace kestrum {
namespace {

class PacedReader final : public StoreReader {
 public:
  PacedReader(std::unique_ptr<StoreReader> inner, Pace& pace) : inner_(std::move(inner)), pace_(pace) {}
  std::uint64_t size() const override { return inner_->size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    pace_.pass(out.size());
    inner_->read_at(offset, out);
  }
  void drop_cache() const override { inner_->drop_cache(); }

 private:
  std::unique_ptr<StoreReader> inner_;
  Pace& pace_;
};

class PacedWriter final : public StoreWriter {
 public:
  PacedWriter(std::unique_ptr<StoreWriter> inner, Pace& pace) : inner_(std::move(inner)), pace_(pace) {}
  void append(ByteView data) override {
    pace_.pass(data.size());
    inner_->append(data);
  }
  void flush() override { inner_->flush(); }
  void finish() override { inner_->finish(); }

 private:
  std::unique_ptr<StoreWriter> inner_;
  Pace& pace_;
};

}  // namespace

std::unique_ptr<StoreReader> PacedStore::try_open(const std::string& path) const {
  std::unique_ptr<StoreReader> reader = inner().try_open(path);
  if (!reader || reading_ == nullptr) return reader;
  return std::make_unique<PacedReader>(std::move(reader), *reading_);
}

std::unique_ptr<StoreWriter> PacedStore::create(const std::string& path) {
  std::unique_ptr<StoreWriter> writer = inner().create(path);
  if (writing_ == nullptr) return writer;
  return std::make_unique<PacedWriter>(std::move(writer), *writing_);
}

std::unique_ptr<StoreWriter> PacedStore::reopen(const std::string& path) {
  std::unique_ptr<StoreWriter> writer = inner().reopen(path);
  if (writing_ == nullptr) return writer;
  return std::make_unique<PacedWriter>(std::move(writer), *writing_);
}

}  // namespace kestrum
