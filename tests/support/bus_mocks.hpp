// A private bus on which a session manager and a notification service are played, for as long as this lives.
#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "support/companion.hpp"

namespace kestrum::test {

class BusMocks {
 public:
  // `folder`: where their socket and logs lie. `options`: of support/bus_mocks.py.
  explicit BusMocks(const std::string& folder, const std::vector<std::string>& options = {});

  const std::string& address() const { return address_; }
  // What, who, why, mode and more of each that is held now.
  nlohmann::json inhibitors() { return ask("INHIBITORS"); }
  // 'Suspend False' ...
  nlohmann::json manager_calls() { return ask("logind"); }
  nlohmann::json notices() { return ask("notification_daemon"); }
  void plug_in() { ask("PLUG-IN"); }

 private:
  nlohmann::json ask(const std::string& word);
  Companion mocks_;
  std::string address_;
};

}  // namespace kestrum::test
