#include "support/mail_server.hpp"

#include <array>
#include <stdexcept>

#include "support/temp_folder.hpp"

namespace kestrum::test {

MailServer::MailServer(std::string folder, const std::vector<std::string>& options)
    : folder_(std::move(folder)), options_(options) {
  start();
}

void MailServer::start() {
  std::vector<std::string> words{folder_, "--port", std::to_string(port_)};
  words.insert(words.end(), options_.begin(), options_.end());
  server_ = std::make_unique<Companion>("mail_server.py", words);
  const std::string port = server_->line();
  if (port.empty()) throw std::runtime_error("the mail server does not start; is python3-aiosmtpd there?");
  port_ = std::stoi(port);
}

void MailServer::does(const std::string& what) {
  write_file(folder_ + "/does", what);
}

nlohmann::json MailServer::mails() const {
  const std::string command =
      "/usr/bin/python3 '" + std::string(KESTRUM_SOURCE) + "/tests/support/read_mails.py' '" + folder_ + "'";
  FILE* pipe = popen(command.c_str(), "r");
  std::string text;
  std::array<char, 4096> buffer{};
  for (std::size_t got = 0; (got = fread(buffer.data(), 1, buffer.size(), pipe)) > 0;)
    text.append(buffer.data(), got);
  pclose(pipe);
  return nlohmann::json::parse(text);
}

}  // namespace kestrum::test
