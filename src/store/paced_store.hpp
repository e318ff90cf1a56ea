// A store that is read and written no faster than it should be.
#pragma once

#include "base/pace.hpp"
#include "store/forwarding_store.hpp"

namespace kestrum {

// Passes everything on. What files hold is paced, small files put as a whole are not. Those that are nullptr
// are not paced; the others must outlive this, and the readers and writers that it gives out.
class PacedStore final : public ForwardingStore {
 public:
  PacedStore(std::unique_ptr<Store> inner, Pace* reading, Pace* writing)
      : ForwardingStore(std::move(inner)), reading_(reading), writing_(writing) {}

  std::unique_ptr<StoreReader> try_open(const std::string& path) const override;
  std::unique_ptr<StoreWriter> create(const std::string& path) override;
  std::unique_ptr<StoreWriter> reopen(const std::string& path) override;

 private:
  Pace* reading_;
  Pace* writing_;
};

}  // namespace kestrum
