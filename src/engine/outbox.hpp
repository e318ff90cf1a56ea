// Mail on its way: written down before it goes, kept until the server has taken it.
#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/file_handle.hpp"
#include "engine/home.hpp"

namespace kestrum {

// Who gets the same mail: at least one address.
using Recipients = std::vector<std::string>;  // sorted, each once

struct OutgoingMail {
  std::string id;  // also its name in the folder; unique
  Recipients to;
  Recipients left = {};  // of them, who have not got it yet
  std::string from;
  std::string subject, text, html;  // UTF-8; html may be empty
  Instant made;
  unsigned tries = 0;
  Instant next;         // not before
  std::string trouble;  // why the last try failed
  // What is to be remembered once it lies here: of jobs, how their memory is written (engine/news), and of
  // the recipients.
  std::map<std::string, std::string> told = {};
  Instant away = {};
};

// What is remembered of them.
struct RecipientsMemory {
  Instant made;  // of their last mail
  Instant away;  // up to then they know of times in which no agent was there
};

// One process at a time; another one that comes meanwhile has its work done by the one that holds it.
class Outbox {
 public:
  // Nothing when another process holds it: that one is told to look once more. Throws Error of kind failed
  // when the folder cannot be written.
  static std::optional<Outbox> open(const Home& home);
  // Whether somebody came meanwhile; asked until nobody has.
  bool asked_again();
  static bool is_asked(const Home& home);

  // Oldest first. What does not read is left out, and moved aside.
  std::vector<OutgoingMail> mails() const;
  void put(const OutgoingMail& mail);  // new, or changed
  void remove(const std::string& id);

  std::optional<RecipientsMemory> memory(const Recipients& to) const;
  void remember(const Recipients& to, const RecipientsMemory& memory);

  // When the agent is to look again; nothing: when something happens.
  void look_again(std::optional<Instant> when);

 private:
  Outbox(std::string folder, FileHandle lock);
  std::string path(const std::string& id) const { return folder_ + "/" + id + ".json"; }
  void save() const;
  std::string folder_;
  FileHandle lock_;
  std::map<Recipients, RecipientsMemory> memories_;
  std::optional<Instant> look_again_;
};

// What the last look of anybody has said; for those who do not hold the outbox.
struct OutboxLook {
  std::optional<Instant> look_again;
  std::size_t waiting = 0;  // mails
  std::string trouble;      // of the one that waits longest, as far as it was tried; empty: none
  Recipients to;            // of that
  Instant since;            // it was made
};
OutboxLook look_at_outbox(const Home& home);

// From one try to the next: 5 minutes, 15, and then each hour.
std::int64_t retry_seconds(unsigned tries);

}  // namespace kestrum
