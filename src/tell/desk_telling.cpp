#include "tell/desk_telling.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <set>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/desk_notice.hpp"
#include "engine/job_in_force.hpp"
#include "engine/tell_facts.hpp"
#include "tell/age_words.hpp"

namespace kestrum {
namespace {

// Those that the job names, and else whose folders they are.
std::set<uid_t> people_of(const Job& job, const RunContext& context) {
  std::set<uid_t> people;
  const auto add = [&](const std::string& name) {
    for (const Account& account : context.people.everybody) {
      if (name == "everybody" || account.name == name) people.insert(account.id);
    }
    if (name == "me") people.insert(context.people.me.id);
  };
  for (const std::string& name : job.what.people) add(name);
  if (job.what.people.empty() && !job.what.categories.empty()) add("me");
  for (const std::string& folder : job.what.folders) {
    struct stat status {};
    if (lstat(folder.c_str(), &status) == 0) people.insert(status.st_uid);
  }
  if (people.empty()) add("me");
  return people;
}

std::string age_of_last(const JobStatus& status, Instant now) {
  return status.newest_good ? "the last copy is of " + weekday_text(*status.newest_good) + " " +
                                  day_text(*status.newest_good) + ", " + age_text(status.newest_good, now)
                            : "there is no copy yet";
}

// "label:tern-1" as people call it.
std::string missing_drive(const JobStatus& status, const JobTrouble& trouble) {
  const std::string named =
      !trouble.drive.empty() || status.drives.empty() ? trouble.drive : status.drives[0].named;
  const DestinationAddress address = DestinationAddress::parse(named);
  return printable(address.names_drive() ? address.drive : named);
}

class Desks {
 public:
  explicit Desks(const RunContext& context) : context_(context), history_(History::open(context)) {}

  std::optional<Instant> tell() {
    for (const std::string& name : context_.home.job_names()) {
      try {
        std::optional<Error> trouble;
        const std::optional<JobInForce> job = job_in_force(context_.home, name, &trouble);
        if (job && job->job.tell.desktop != TellRules::Desktop::no) tell_of(job->job);
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::usage) throw;  // the job went this very moment
      }
    }
    return again_;
  }

 private:
  void tell_of(const Job& job) {
    JobStatus status = job_status({job.name}, context_).at(0);
    drop_no_news(status);
    constexpr int enough = 20;
    const std::vector<RunEntry> runs = history_.runs(job.name, enough);
    const std::string file = context_.home.desk_file(job.name);
    const TellMemory memory = load_tell_memory(file);
    TellRules rules;
    rules.every_run = job.tell.desktop == TellRules::Desktop::every_run;
    const Instant now = context_.clock.now();
    TellLook look = look_for_telling(job, status, runs, now);
    look.on_change = false;
    const TellStep step = tell_step(rules, memory, look);
    const Instant tomorrow{now.seconds + 86400, 0};
    const Instant next = std::min(step.look_again.value_or(tomorrow), tomorrow);
    if (!again_ || next < *again_) again_ = next;
    const DeskWords words = desk_words(status, step, runs, now);
    bool shown = words.title.empty();
    for (const uid_t person : words.title.empty() ? std::set<uid_t>() : people_of(job, context_))
      shown = notify_person(person, words.title, words.words, context_.session_bus) || shown;
    // What nobody saw is told when somebody is there.
    if (shown && step.after != memory) save_tell_memory(context_.home, file, tell_memory_text(step.after));
  }

  const RunContext& context_;
  History history_;
  std::optional<Instant> again_;
};

}  // namespace

DeskWords desk_words(const JobStatus& status, const TellStep& step, const std::vector<RunEntry>& runs,
                     Instant now) {
  std::vector<std::size_t> bad = step.fresh;
  bad.insert(bad.end(), step.again.begin(), step.again.end());
  for (const std::size_t number : bad) {
    const JobTrouble& trouble = status.troubles[number];
    if (trouble.kind == TroubleKind::waits)
      return {"Please plug in the drive " + missing_drive(status, trouble),
              "Then your files are saved by themselves; " + age_of_last(status, now) + "."};
  }
  if (!bad.empty())
    return {"Your files could not be saved",
            "Please tell whoever looks after this machine; " + age_of_last(status, now) + "."};
  if (step.good_again) return {"Your files are saved again", ""};
  if (!step.runs) return {};
  for (const RunEntry& run : runs) {
    if (!run.ended || !run.sequence) continue;
    return {"Your files were saved", count_text(run.totals.changed_files, "changed file") + " and " +
                                         count_text(run.totals.new_files, "new one") + "."};
  }
  return {};
}

std::optional<Instant> tell_at_desks(const RunContext& context) {
  return Desks(context).tell();
}

}  // namespace kestrum
