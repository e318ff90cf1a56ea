// What is to be told goes out by mail: made, written down, sent, and tried again until it has gone.
#pragma once

#include <functional>

#include "engine/news.hpp"

namespace kestrum {

// What became of it; in the order in which it happened.
struct TellEvent {
  std::string subject;
  Recipients to;        // of these addresses
  std::string trouble;  // why it could not be sent; empty: it was
  std::string hint;
  std::string said;  // by the server
};

struct TellDone {
  std::vector<TellEvent> events;
  std::string trouble;                  // why no mail could be looked after at all
  std::vector<std::string> pages = {};  // why report pages could not be written
  std::string desks = {};               // why nothing could be told at the desks
};

// `at_once`: also what is to be tried again only later. Report pages that jobs want are made anew, too, and
// people are told at their desks. Never throws but Stopped: nothing fails for the sake of telling about it.
TellDone tell_news(const RunContext& context, bool at_once = false);

// One mail as if there were something to tell of the job, sent at once and to each address. Throws Error of
// kind usage where nobody is to be told, or no server is known.
TellDone tell_trial(const Job& job, const RunContext& context);

// So long a mail is tried.
inline constexpr std::int64_t given_up_after = 14 * 86400;

}  // namespace kestrum
