// A real mail server on loopback, for as long as this lives.
#pragma once

#include <memory>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "support/companion.hpp"

namespace kestrum::test {

class MailServer {
 public:
  // `options`: of support/mail_server.py. `folder`: where the mail lies; it must be there.
  explicit MailServer(std::string folder, const std::vector<std::string>& options = {});

  int port() const { return port_; }
  std::string address() const { return "127.0.0.1:" + std::to_string(port_); }
  std::string certificate() const { return folder_ + "/certificate.pem"; }
  // With the next mails: "take", "refuse", "hang", "break-off".
  void does(const std::string& what);
  // As Python's parser reads it: docs in support/read_mails.py.
  nlohmann::json mails() const;
  void stop() { server_.reset(); }
  // On the same port as before.
  void start();

 private:
  std::string folder_;
  std::vector<std::string> options_;
  int port_ = 0;
  std::unique_ptr<Companion> server_;
};

}  // namespace kestrum::test
