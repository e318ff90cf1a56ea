// A desk with an agent, under a clock that can be set.
#pragma once

#include <gmock/gmock.h>
#include <signal.h>

#include <functional>
#include <nlohmann/json.hpp>
#include <thread>

#include "program/desk.hpp"
#include "support/noise.hpp"
#include "support/set_clock.hpp"

namespace kestrum::test {

class AgentTest : public testing::Test {
 protected:
  using Json = nlohmann::json;
  AgentTest() : clock_(desk_.folder / "clock", "2027-03-01T08:00:00Z", 0) {
    desk_.program.environment["KESTRUM_CLOCK"] = clock_.variable();
    desk_.program.environment["TZ"] = "UTC";
    write_file(desk_.source() + "/counts.csv", "3,Gannet\n");
  }
  ~AgentTest() override { end_agent(SIGKILL); }

  void begin_agent(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"agent"};
    words.insert(words.end(), more.begin(), more.end());
    agent_ = desk_.program.start(words);
    ASSERT_TRUE(comes([&] { return status()["agent"] == true; })) << "the agent does not come up";
  }
  int end_agent(int signal = SIGTERM) {
    if (agent_ <= 0) return 0;
    kill(agent_, signal);
    const int code = Program::wait(agent_);
    agent_ = 0;
    return code;
  }
  std::string ledger() const { return desk_.folder / "home/state/ledger.db"; }
  // Within so many real seconds.
  static bool comes(const std::function<bool()>& what, double seconds = 20) {
    const auto end = std::chrono::steady_clock::now() + std::chrono::duration<double>(seconds);
    while (!what()) {
      if (std::chrono::steady_clock::now() > end) return false;
      std::this_thread::sleep_for(std::chrono::milliseconds(20));
    }
    return true;
  }
  Json status() { return Json::parse(desk_({"status", "--json"}).out); }
  Json history(const std::string& job = "wardens") {
    return Json::parse(desk_({"history", job, "--json"}).out);
  }
  std::size_t runs(const std::string& job = "wardens") { return history(job)["runs"].size(); }
  bool ran(std::size_t count, const std::string& job = "wardens") {
    return comes([&] {
      const Json all = history(job)["runs"];
      return all.size() >= count && all[0]["ended"] != nullptr;
    });
  }
  // "03-01 12:30 done, run 1", oldest first.
  std::vector<std::string> due(const std::string& job = "wardens") {
    std::vector<std::string> out;
    const Json all = history(job)["due"];
    for (const Json& one : all) {
      std::string when = one["due"].get<std::string>().substr(5, 11);
      when[5] = ' ';
      out.insert(out.begin(), when + " " + one["text"].get<std::string>());
    }
    return out;
  }
  // A run that takes some seconds.
  void make_slow() { write_file(desk_.source() + "/calls.wav", noise(64u << 20)); }
  // On to that moment, and from there at its usual pace.
  void let_pass_to(const std::string& utc) {
    clock_.run_to(utc, 20000);
    clock_.go(1);
  }
  // The agent has begun a run that takes some seconds, due 2027-03-01 12:30.
  void begin_slow_run_at_noon() {
    make_slow();
    ASSERT_EQ(desk_.define({"--when-runs", "daily at 12:30", "--how-compression", "19"}).exit, 0);
    begin_agent();
    let_pass_to("2027-03-01T12:29:59Z");
    ASSERT_TRUE(comes([&] { return goes(); }));
  }
  bool goes() { return status()["jobs"][0]["going"] != nullptr; }

  Desk desk_;
  SetClock clock_;
  pid_t agent_ = 0;
};

}  // namespace kestrum::test
