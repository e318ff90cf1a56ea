#include "engine/news.hpp"

#include <algorithm>

#include "engine/job_in_force.hpp"
#include "engine/tell_facts.hpp"
#include "ledger/due_book.hpp"

namespace kestrum {
namespace {

constexpr int most_runs = 200;

}  // namespace

struct NewsDesk::Asked {
  std::string name;
  Job job;  // name and rules only where its file does not read
};

NewsDesk::NewsDesk(const RunContext& context, const Settings& settings, Outbox& outbox)
    : context_(context), settings_(settings), outbox_(outbox), history_(History::open(context)) {
  remember_told();
}

Recipients recipients_of(const TellRules& rules, const Settings& settings) {
  Recipients to = rules.mail.empty() ? settings.mail.to : rules.mail;
  std::sort(to.begin(), to.end());
  to.erase(std::unique(to.begin(), to.end()), to.end());
  return to;
}

void NewsDesk::look_at(std::optional<Instant> when) {
  if (when && (!look_again_ || *when < *look_again_)) look_again_ = when;
}

std::map<Recipients, std::vector<NewsDesk::Asked>> NewsDesk::asked_jobs() {
  std::map<Recipients, std::vector<Asked>> asked;
  for (const std::string& name : context_.home.job_names()) {
    Asked one{name, {}};
    try {
      std::optional<Error> trouble;
      if (std::optional<JobInForce> job = job_in_force(context_.home, name, &trouble))
        one.job = std::move(job->job);
    } catch (const Error&) {
      continue;  // it went this very moment
    }
    if (Recipients to = recipients_of(one.job.tell, settings_); !to.empty())
      asked[std::move(to)].push_back(std::move(one));
  }
  return asked;
}

std::vector<Letter> NewsDesk::letters() {
  look_again_.reset();
  std::vector<Letter> letters;
  std::set<Recipients> waiting;
  for (const OutgoingMail& mail : outbox_.mails()) {
    // Where one of several addresses is wrong, the others go on.
    if (mail.left == mail.to) waiting.insert(mail.to);
  }
  const Instant now = context_.clock.now();
  for (const auto& [to, jobs] : asked_jobs()) {
    if (waiting.contains(to)) continue;
    const std::optional<RecipientsMemory> memory = outbox_.memory(to);
    // One that a clock ahead has dated later does not count.
    if (memory && memory->made <= now && now.seconds < memory->made.seconds + gather_seconds) {
      look_at(Instant{memory->made.seconds + gather_seconds, 0});
      continue;
    }
    if (std::optional<Letter> one = letter(to, jobs)) letters.push_back(std::move(*one));
  }
  return letters;
}

std::optional<Letter> NewsDesk::letter(const Recipients& to, const std::vector<Asked>& jobs) {
  Letter letter{.to = to,
                .machine = context_.machine,
                .now = context_.clock.now(),
                .jobs = {},
                .away = {},
                .away_until = {}};
  std::vector<std::string> names;
  std::vector<ToldTrouble> shared;
  for (const Asked& job : jobs) {
    names.push_back(job.name);
    for (const ToldTrouble& told : load_tell_memory(context_.home.tell_file(job.name)).troubles) {
      if (told.there && told.mark.starts_with(drive_mark)) shared.push_back(told);
    }
  }
  for (const JobStatus& status : job_status(names, context_)) {
    const auto job =
        std::find_if(jobs.begin(), jobs.end(), [&](const Asked& one) { return one.name == status.job; });
    if (std::optional<JobNews> one = news(*job, status, shared)) {
      letter.digest = letter.digest || one->step.digest;
      letter.jobs.push_back(std::move(*one));
    }
  }
  const Instant known = outbox_.memory(to).value_or(RecipientsMemory{{}, letter.now}).away;
  letter.away_until = std::max(known, Instant());
  if (Ledger* ledger = history_.ledger()) {
    constexpr std::size_t enough = 200;
    for (const AgentEvent& event : DueBook(*ledger).events(enough)) {
      if (event.what != away_event || event.when <= known || event.when > letter.now) continue;
      letter.away.push_back(event.words);
      letter.away_until = std::max(letter.away_until, event.when);
    }
  }
  // Since when they are told of such times.
  if (!outbox_.memory(to)) outbox_.remember(to, {{}, letter.now});
  if (letter.jobs.empty() && letter.away.empty()) return std::nullopt;
  return letter;
}

std::optional<JobNews> NewsDesk::news(const Asked& job, const JobStatus& seen,
                                      const std::vector<ToldTrouble>& shared) {
  JobNews news{seen, job.job.tell, {}, {}};
  drop_no_news(news.status);
  TellMemory memory = load_tell_memory(context_.home.tell_file(job.name));
  const std::vector<RunEntry> runs = history_.runs(job.name, most_runs);
  const TellLook look = look_for_telling(job.job, news.status, runs, context_.clock.now());
  // What the recipients know of another job they know of this one.
  for (const ToldTrouble& told : shared) {
    const auto has = [&](const auto& all) {
      return std::any_of(all.begin(), all.end(), [&](const auto& one) { return one.mark == told.mark; });
    };
    if (has(look.troubles) && !has(memory.troubles)) memory.troubles.push_back(told);
  }
  for (const RunEntry& run : runs) {
    if ((run.ended || run.cut_off()) && run.id > memory.run && memory.since) news.runs.push_back(run);
  }
  news.step = tell_step(job.job.tell, memory, look);
  look_at(news.step.look_again);
  if (news.step.any()) return news;
  if (news.step.after != memory)
    save_tell_memory(context_.home, context_.home.tell_file(job.name), tell_memory_text(news.step.after));
  return std::nullopt;
}

void NewsDesk::put(const Letter& letter, OutgoingMail mail) {
  mail.to = mail.left = letter.to;
  mail.made = mail.next = letter.now;
  mail.away = letter.away_until;
  for (const JobNews& news : letter.jobs) mail.told[news.status.job] = tell_memory_text(news.step.after);
  outbox_.put(mail);
  remember_told();
}

// Also of one that was put there by a process that was killed just then.
void NewsDesk::remember_told() {
  for (OutgoingMail& mail : outbox_.mails()) {
    if (mail.told.empty() && mail.away == Instant()) continue;
    for (const auto& [job, text] : mail.told) {
      if (context_.home.has_job(job)) save_tell_memory(context_.home, context_.home.tell_file(job), text);
    }
    outbox_.remember(mail.to, {mail.made, mail.away});
    mail.told.clear();
    mail.away = {};
    outbox_.put(mail);
  }
}

Letter trial_letter(const Job& job, const Recipients& to, const RunContext& context) {
  Letter letter{.to = to,
                .machine = context.machine,
                .now = context.clock.now(),
                .jobs = {},
                .away = {},
                .away_until = {}};
  JobNews news{job_status({job.name}, context).at(0), job.tell, {}, {}};
  History history = History::open(context);
  constexpr int some = 10;
  news.runs = history.runs(job.name, some);
  for (std::size_t i = 0; i < news.status.troubles.size(); ++i) news.step.fresh.push_back(i);
  news.step.runs = true;
  letter.jobs.push_back(std::move(news));
  return letter;
}

}  // namespace kestrum
