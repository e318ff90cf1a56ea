// For tests that set a drive back to an earlier state, again and again.
#pragma once

#include <filesystem>

#include "engine/home.hpp"

namespace kestrum::test {

// What the home knows of points that the drive has no more goes with it: they are not missed then.
inline void forget_history(const Home& home) {
  for (const char* part : {"", "-wal", "-shm"}) std::filesystem::remove(home.ledger_file() + part);
}

}  // namespace kestrum::test
