// Of what happens to a job, what is told by mail, and when.
#pragma once

#include <string>
#include <vector>

namespace kestrum {

// How much a mail says: what is wrong; also what the runs did; also what stands in the last run's log.
enum class TellDetail { problems, summary, everything };

// All that happened since the last one, in one mail.
enum class DigestEvery { none, daily, weekly };

struct TellRules {
  std::vector<std::string> mail;  // addresses; empty: those of the settings
  TellDetail detail = TellDetail::problems;
  bool problems = true;    // when something is wrong
  bool good_again = true;  // and when it has gone
  bool every_run = false;
  DigestEvery digest = DigestEvery::none;
  // Words at the desks of those whose files they are.
  enum class Desktop { no, problems, every_run } desktop = Desktop::no;
  std::string page;  // a report that is kept up to date there; empty: none
};

// "problems", "good again", "every run", "a digest a day", "a digest a week": those that are said, and no
// other. Throws Error of kind usage.
void set_tell_when(TellRules& rules, const std::vector<std::string>& values);

// "problems, and when they are gone; a digest a week".
std::string tell_when_text(const TellRules& rules);

}  // namespace kestrum
