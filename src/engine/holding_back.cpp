#include "engine/holding_back.hpp"

#include <cstdlib>
#include <thread>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "engine/system_bus.hpp"

namespace kestrum {

bool is_loaded(std::string_view loadavg, unsigned processors) {
  constexpr double share = 0.75;
  const std::string first(loadavg.substr(0, loadavg.find(' ')));
  return std::strtod(first.c_str(), nullptr) > share * processors;
}

bool held_back_now(const Job& job) {
  if (job.waits_on_battery && on_battery().value_or(false)) return true;
  if (!job.waits_under_load) return false;
  try {
    constexpr std::size_t most = 4096;
    const Bytes text = read_small_file("/proc/loadavg", most);
    return is_loaded(as_text(text), std::max(1u, std::thread::hardware_concurrency()));
  } catch (const Error&) {
    return false;
  }
}

}  // namespace kestrum
