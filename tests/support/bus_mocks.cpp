#include "support/bus_mocks.hpp"

#include <stdexcept>

namespace kestrum::test {
namespace {

std::vector<std::string> with_folder(const std::string& folder, std::vector<std::string> options) {
  options.insert(options.begin(), folder);
  return options;
}

}  // namespace

BusMocks::BusMocks(const std::string& folder, const std::vector<std::string>& options)
    : mocks_("bus_mocks.py", with_folder(folder, options)), address_(mocks_.line()) {
  if (address_.empty()) throw std::runtime_error("no bus; are dbus and python3-dbusmock there?");
}

nlohmann::json BusMocks::ask(const std::string& word) {
  mocks_.tell(word);
  return nlohmann::json::parse(mocks_.line());
}

}  // namespace kestrum::test
