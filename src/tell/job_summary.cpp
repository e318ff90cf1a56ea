#include "tell/job_summary.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "job/categories.hpp"
#include "job/command_lines.hpp"
#include "job/usual_list.hpp"
#include "plan/keep_plan.hpp"

namespace kestrum {
namespace {

std::string renew_text(const Job& job) {
  if (job.kind == Kind::full) return "every run makes a full set";
  std::string base = job.kind == Kind::incremental ? "each run saves what changed since the one before"
                                                   : "each run saves what changed since the last full set";
  return base + (!job.renew.never() ? ", a new full set: " + join(job.renew.texts(), ", or ")
                                    : ", a full set only at first");
}

// What the phrases mean, so that nobody need trust them.
std::string coming_text(const Job& job, Instant now) {
  std::vector<std::string> out;
  for (const Occurrence& one : next_times(job.runs, now, 5)) {
    std::string text = weekday_text(one.when) + " " + local_text(one.when);
    const Phrase& phrase = job.runs[one.phrase];
    if (phrase.kind) text += " (" + std::string(kind_name(*phrase.kind)) + ")";
    out.push_back(text);
  }
  return join(out, ", ");
}

class Page {
 public:
  Page(const Job& job, Instant now, bool agent) : job_(job), now_(now), agent_(agent) {}

  std::string text() {
    out_ = "Job " + printable(job_.name) + "  (" + printable(job_.file) + ")\n";
    if (!job_.what.description.empty()) line("For", job_.what.description);
    if (!job_.enabled)
      line("Disabled",
           "it runs only when it is asked for by name: kestrum run " + shell_word(printable(job_.name)));
    what();
    left_out();
    not_covered();
    for (const std::string& named : job_.destinations) line("Where", printable(named));
    if (job_.destinations.size() > 1) {
      const char* uses[] = {"whichever of them is connected; of several the one written longest ago",
                            "a set on each of them that is connected", "one until it is full, then the next"};
      line("", uses[static_cast<int>(job_.use)]);
    }
    if (job_.leaves_program) line("", "a copy of this program lies beside the sets");
    if (job_.same_disk)
      line("", "it may lie on the disk of the files themselves: a broken disk then takes both");
    when();
    how();
    protection();
    keep();
    around();
    return out_;
  }

 private:
  // Further lines of the same head are not given it again.
  void line(const std::string& head, const std::string& text) {
    out_ += fmt::format("  {:<13}{}\n", head == last_ ? "" : head, text);
    if (!head.empty()) last_ = head;
  }

  std::string whose() const {
    const std::vector<std::string>& people = job_.what.people;
    if (people.empty() || people == std::vector<std::string>{"me"}) return "in the home of whoever runs it";
    if (std::find(people.begin(), people.end(), "everybody") != people.end())
      return "in the homes of everybody who has an account";
    std::vector<std::string> shown;
    for (const std::string& name : people) shown.push_back(printable(name));
    return "in the homes of " + join(shown, ", ");
  }

  void what() {
    if (!job_.what.categories.empty()) line("What", join(job_.what.categories, ", ") + ", " + whose());
    for (const std::string& folder : job_.what.folders) line("What", printable(folder));
  }

  void left_out() {
    const WhatToSave& what = job_.what;
    if (what.usual_list)
      line("Left out", "trash, caches and temporary files (all of them: kestrum help usual-list)");
    if (!what.hidden) line("Left out", "names that begin with a dot");
    if (!what.mounted_below) line("Left out", "other file systems that are mounted below");
    std::vector<std::string> skipped, taken_back;
    for (const std::string& pattern : what.skip)
      (pattern.starts_with('!') ? taken_back : skipped).push_back(printable(pattern));
    if (!skipped.empty()) line("Left out", join(skipped, "  "));
    if (!taken_back.empty()) line("", "but not what these take back: " + join(taken_back, "  "));
    if (what.skip_larger) line("Left out", "files larger than " + size_text(*what.skip_larger));
    if (what.skip_smaller) line("Left out", "files smaller than " + size_text(*what.skip_smaller));
    if (what.skip_older) line("Left out", "files not changed for " + what.skip_older->text());
    if (what.skip_newer) line("Left out", "files changed within " + what.skip_newer->text());
  }

  void not_covered() {
    const WhatToSave& what = job_.what;
    bool root = std::find(what.folders.begin(), what.folders.end(), "/") != what.folders.end();
    bool all =
        std::find(what.categories.begin(), what.categories.end(), "everything") != what.categories.end();
    std::vector<std::string> others;
    for (const Category& category : categories()) {
      bool chosen =
          std::find(what.categories.begin(), what.categories.end(), category.name) != what.categories.end();
      if (!chosen && !all && std::string(category.name) != "everything") others.emplace_back(category.name);
    }
    if (!what.categories.empty() && !others.empty())
      line("Not covered", join(others, ", ") + " of these people");
    if (!root) line("Not covered", "whatever lies elsewhere: other folders, installed programs, the system");
  }

  void on_change() {
    line("", "a run starts when nothing has happened for " + job_.settle.text() + ", no sooner than " +
                 job_.least_interval.text() + " after the one before");
    bool said = false;
    for (const Phrase& phrase : job_.runs)
      said = said || (phrase.type == Phrase::Type::on_change && phrase.every > 0);
    line("", "it looks only where something happened, and " +
                 std::string(said ? "at that interval" : "once a day") + " at everything");
  }

  void by_itself() {
    line("", "a run that was missed is " +
                 std::string(job_.catch_up ? "made up for at the next chance" : "skipped"));
    const std::vector<OpenHours>& hours = job_.window.only_between;
    for (const OpenHours& one : hours)
      line("", "starts only " + one.text() + (&one == &hours.back() ? "; what is due outside waits" : ""));
    for (const ClosedDays& days : job_.window.not_on) line("", "not on " + days.text());
    std::vector<std::string> held;
    if (job_.waits_on_battery) held.emplace_back("on its battery");
    if (job_.waits_under_load) held.emplace_back("under load");
    if (!held.empty()) line("", "waits while the machine is " + join(held, " or "));
    if (job_.passphrase == "ask" && job_.encryption != Encryption::none)
      line("", "nobody can be asked for the passphrase then: [protect] passphrase must name a file");
    line("", agent_ ? "the agent is there and starts it"
                    : "no agent is there, so nothing starts by itself: start one with kestrum agent, or "
                      "let a timer "
                      "of your own call kestrum run --due");
  }

  void when() {
    if (job_.runs.empty()) line("When", "by hand");
    for (const Phrase& phrase : job_.runs) line("When", phrase.text());
    const std::string coming = coming_text(job_, now_);
    if (!coming.empty()) line("", "next: " + coming);
    if (runs_on_change(job_)) on_change();
    if (!coming.empty() || runs_on_change(job_)) by_itself();
    if (job_.warn_after)
      line("", "status says so when there is no good point for " + job_.warn_after->text());
  }

  void how() {
    line("How", std::string(kind_name(job_.kind)) + ": " + renew_text(job_));
    line("", "compression " + job_.compression + ", data files of up to " + size_text(job_.volume_bytes));
    if (job_.effort == Effort::low)
      line("", "low effort: one thread, and only what nobody else wants of processor and disk");
    if (job_.effort == Effort::all) line("", "all effort: it gives way to no other program");
    for (const SpeedLimit& limit : job_.read_limits) line("", "reads no faster than " + limit.text());
    for (const SpeedLimit& limit : job_.write_limits) line("", "writes no faster than " + limit.text());
  }

  void protection() {
    if (job_.encryption == Encryption::none) {
      line("Protection", "none: whoever has the drive can read the files");
      return;
    }
    line("Protection", "AES-256-GCM; passphrase: " + (job_.passphrase == "ask"
                                                          ? std::string("asked for at each run")
                                                          : "from " + printable(job_.passphrase.substr(5))));
    if (job_.recovery_keys.empty())
      line("", "nobody can bring back a lost passphrase: keep a copy away from this machine");
    for (const std::string& file : job_.recovery_keys)
      line("", "the recovery key of " + printable(file) + " opens the sets too");
  }

  void keep() {
    for (const std::string& rule : keep_lines(acting_rules(job_.keep), job_.renew.never()))
      line("Keep", rule);
    if (!job_.keep.any()) line("", "these are the usual rules; [keep] changes them");
    if (job_.keep.any() && !job_.keep.any_limit())
      line("",
           "no limit of room: the usual 90% of the drive holds only where [keep] says nothing "
           "(--keep-drive-limit)");
  }

  void around() {
    line("After a run", job_.after_run == AfterRun::nothing ? "nothing is checked"
                        : job_.after_run == AfterRun::read_back
                            ? "what was written is read back and checked"
                            : "what was written is read back, unpacked and checked");
    for (const Phrase& phrase : job_.check_times)
      line("Checks", phrase.text() + ", " +
                         (job_.check_budget.any() ? job_.check_budget.text() + " each time" : "everything"));
    for (const Phrase& phrase : job_.drill_times)
      line("Drills", phrase.text() + ", a sample of the files comes back for a rehearsal");
    for (const std::string& path : job_.drill_with) line("In each drill", printable(path));
    for (const std::string& text : command_lines(job_)) line("Commands", text);
    if (!job_.tell.mail.empty())
      line("Mail", "to " + join(job_.tell.mail, ", ") + ": " + tell_when_text(job_.tell));
    if (!job_.tell.page.empty()) line("Page", printable(job_.tell.page) + ", kept up to date");
    if (job_.tell.desktop != TellRules::Desktop::no)
      line("At the desks", job_.tell.desktop == TellRules::Desktop::problems
                               ? "what people can do about problems"
                               : "what each run did");
  }

  const Job& job_;
  Instant now_;
  bool agent_;
  std::string out_;
  std::string last_;
};

}  // namespace

std::string job_summary(const Job& job, Instant now, bool agent) {
  return Page(job, now, agent).text();
}

std::string short_what(const Job& job) {
  std::vector<std::string> all = job.what.categories;
  for (const std::string& folder : job.what.folders) all.push_back(printable(folder));
  return all.at(0) + (all.size() > 1 ? " and " + std::to_string(all.size() - 1) + " more" : "");
}

}  // namespace kestrum
