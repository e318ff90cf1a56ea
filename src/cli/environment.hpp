// What the program finds around it: environment, terminal, clock, homes. The only place that asks.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "base/clock.hpp"
#include "engine/home.hpp"
#include "engine/passphrase_source.hpp"
#include "source/accounts.hpp"

namespace kestrum {

class Environment {
 public:
  // Throws Error of kind usage for a malformed KESTRUM_NOW or KESTRUM_CLOCK.
  Environment();
  const Clock& clock() const { return *clock_; }
  const Home& home() const { return *home_; }
  const std::string& machine() const { return machine_; }
  // D-Bus address of this process's own desktop session; empty where it is not said.
  const std::string& session_bus() const { return session_bus_; }
  bool in_and_out_are_terminals() const;
  bool out_is_terminal() const { return out_terminal_; }
  bool err_is_terminal() const { return err_terminal_; }
  bool out_colour() const { return out_terminal_ && colour_; }
  bool err_colour() const { return err_terminal_ && colour_; }
  // Columns of the terminal on standard error.
  std::size_t width() const;
  // Asks without echo; nothing when standard input is no terminal.
  AskPassphrase ask() const;
  unsigned workers() const;
  // Accounts of this machine, or of the file that KESTRUM_ACCOUNTS names (demo, tests).
  People people() const;

 private:
  std::unique_ptr<Clock> clock_;
  std::unique_ptr<Home> home_;
  std::string machine_;
  std::string session_bus_;
  bool out_terminal_ = false;
  bool err_terminal_ = false;
  bool colour_ = true;
};

}  // namespace kestrum
