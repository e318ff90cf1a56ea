// A mail as it goes over the wire (RFC 5322, MIME).
#pragma once

#include "engine/outbox.hpp"

namespace kestrum {

// Text, and HTML where there is some, as alternatives; lines end with CR LF, or with LF for a program of the
// machine. `machine`: whose name the sender has.
std::string mail_message(const OutgoingMail& mail, const std::string& machine, bool crlf);

}  // namespace kestrum
