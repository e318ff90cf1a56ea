// A store that passes everything on to another one: what limits, retries, counts or fails changes only what
// it is about.
#pragma once

#include "store/store.hpp"

namespace kestrum {

// `inner` must outlive this, unless it is given away.
class ForwardingStore : public Store {
 public:
  explicit ForwardingStore(Store& inner) : inner_(inner) {}
  explicit ForwardingStore(std::unique_ptr<Store> inner) : owned_(std::move(inner)), inner_(*owned_) {}

  StoreTraits traits() const override { return inner_.traits(); }
  std::string describe(const std::string& path) const override { return inner_.describe(path); }
  bool still_there() const override { return inner_.still_there(); }
  bool exists(const std::string& path) const override { return inner_.exists(path); }
  std::vector<StoreEntry> list(const std::string& folder) const override { return inner_.list(folder); }
  std::unique_ptr<StoreReader> try_open(const std::string& path) const override {
    return inner_.try_open(path);
  }
  std::unique_ptr<StoreWriter> create(const std::string& path) override { return inner_.create(path); }
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override { return inner_.reopen(path); }
  void put(const std::string& path, ByteView content) override { inner_.put(path, content); }
  void reserve(const std::string& path, std::uint64_t size) override { inner_.reserve(path, size); }
  bool create_exclusive(const std::string& path, ByteView content) override {
    return inner_.create_exclusive(path, content);
  }
  void shorten(const std::string& path, std::uint64_t size) override { inner_.shorten(path, size); }
  void rename(const std::string& from, const std::string& to) override { inner_.rename(from, to); }
  void remove(const std::string& path) override { inner_.remove(path); }
  void remove_all(const std::vector<std::string>& paths) override { inner_.remove_all(paths); }
  bool make_folder(const std::string& path) override { return inner_.make_folder(path); }
  void make_private(const std::string& folder) override { inner_.make_private(folder); }
  void remove_folder(const std::string& path) override { inner_.remove_folder(path); }
  bool flush_folder(const std::string& path) override { return inner_.flush_folder(path); }
  StoreSpace space() const override { return inner_.space(); }
  void settle() override { inner_.settle(); }
  std::unique_ptr<StoreHold> hold(const std::string& folder) override { return inner_.hold(folder); }

 protected:
  Store& inner() { return inner_; }
  const Store& inner() const { return inner_; }

 private:
  std::unique_ptr<Store> owned_;
  Store& inner_;
};

}  // namespace kestrum
