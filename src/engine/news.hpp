// What there is to tell of the jobs now, to whom: by the decisions of plan/tell_plan.
#pragma once

#include "engine/outbox.hpp"
#include "engine/status.hpp"
#include "plan/tell_plan.hpp"

namespace kestrum {

struct JobNews {
  JobStatus status;
  TellRules rules;
  TellStep step;
  std::vector<RunEntry> runs;  // ended since the last mail, newest first; the newest of very many
};

// One mail to be written.
struct Letter {
  Recipients to;
  std::string machine;
  Instant now;
  std::vector<JobNews> jobs;      // that there is something to tell of, worst first
  std::vector<std::string> away;  // times in which nobody looked after the jobs, one sentence each
  bool digest = false;            // of what its jobs did
  Instant away_until;             // those that are told reach to then
};

class NewsDesk {
 public:
  // All must outlive it.
  NewsDesk(const RunContext& context, const Settings& settings, Outbox& outbox);

  // One at most for the same recipients; none for those who had one within the last hour, or for whom one
  // lies in the outbox: what happens meanwhile goes together into the next.
  std::vector<Letter> letters();
  // Puts the mail that was made of the letter into the outbox; what it tells is not told again, wherever the
  // process is killed. Throws Error of kind failed when that cannot be written.
  void put(const Letter& letter, OutgoingMail mail);
  // When there may be more.
  std::optional<Instant> look_again() const { return look_again_; }

 private:
  void remember_told();
  struct Asked;  // a job, and who is told of it
  std::map<Recipients, std::vector<Asked>> asked_jobs();
  std::optional<Letter> letter(const Recipients& to, const std::vector<Asked>& jobs);
  std::optional<JobNews> news(const Asked& job, const JobStatus& status,
                              const std::vector<ToldTrouble>& shared);
  void look_at(std::optional<Instant> when);

  const RunContext& context_;
  const Settings& settings_;
  Outbox& outbox_;
  History history_;
  std::optional<Instant> look_again_;
};

// Between two mails to the same recipients.
inline constexpr std::int64_t gather_seconds = 3600;
// What the agent calls a time in which there was none though the machine was on (AgentEvent::what).
inline constexpr const char* away_event = "away";

// A letter as if there were something to tell of each job: for trying. Nothing is remembered.
Letter trial_letter(const Job& job, const Recipients& to, const RunContext& context);
// Of the job, or of the settings.
Recipients recipients_of(const TellRules& rules, const Settings& settings);

}  // namespace kestrum
