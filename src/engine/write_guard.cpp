#include "engine/write_guard.hpp"

#include "engine/drive_trouble.hpp"

namespace kestrum {

void WriteGuard::check() const {
  if (std::optional<Error> trouble = drive_trouble(destination_)) throw *trouble;
  lock_.check();
}

}  // namespace kestrum
