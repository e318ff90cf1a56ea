// The way that mail takes: a server (SMTP, RFC 5321), or the machine's own program.
#pragma once

#include "base/run_control.hpp"
#include "engine/outbox.hpp"

namespace kestrum {

// What the server answered last, "250 2.0.0 queued as 4711"; of a program what it said.
struct MailAnswer {
  std::string said;
};

class MailWay {
 public:
  // `machine`: what we call ourselves there. References must outlive it.
  MailWay(const MailSettings& settings, std::string machine, RunControl& control);

  // To one address. Throws Error of kind failed, which says why in one line: not reachable, refused (with the
  // server's words), too slow, broken off; of kind key for a password that cannot be read or is refused;
  // Stopped.
  MailAnswer send(const OutgoingMail& mail, const std::string& address) const;
  // Whether it takes us: connects, logs in, sends nothing. Throws as send().
  MailAnswer try_out() const;

 private:
  MailAnswer by_program(const OutgoingMail& mail, const std::string& address) const;
  const MailSettings& settings_;
  std::string machine_;
  RunControl& control_;
};

}  // namespace kestrum
