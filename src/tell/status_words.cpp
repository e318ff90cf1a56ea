#include "tell/status_words.hpp"

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/job_check.hpp"
#include "engine/leftover_use.hpp"
#include "plan/plan_words.hpp"
#include "tell/age_words.hpp"

namespace kestrum {
namespace {

// As a command's SUBJECT.
std::string subject_of(const JobStatus& status) {
  if (status.machine.empty()) return shell_word(status.job);
  if (!status.folder.empty()) return shell_word(printable(status.drives.at(0).root + "/" + status.folder));
  return shell_word(printable(status.drives.at(0).root)) + " --machine " +
         shell_word(printable(status.machine)) + " --job " + shell_word(printable(status.job));
}

std::string words_of(const JobTrouble& trouble, const JobStatus& status) {
  switch (trouble.kind) {
    case TroubleKind::suspect:
      return count_text(trouble.count, "point is suspect", "points are suspect") +
             (trouble.when == Instant{} ? std::string()
                                        : ", the newest good one is of " + local_text(trouble.when)) +
             ": kestrum guard " + subject_of(status);
    case TroubleKind::job_file:
      return "its job file is wrong: " + trouble.text +
             (trouble.count > 0 ? "; until that is mended its last good form counts" : "");
    case TroubleKind::damaged:
      return count_text(trouble.count, "damaged point") + ": kestrum verify " + subject_of(status);
    case TroubleKind::incomplete:
      return count_text(trouble.count, "point lacks a set that it needs", "points lack a set that they need");
    case TroubleKind::overdue:
      return "no good point for " + trouble.text;
    case TroubleKind::missed:
      return "due on " + local_text(trouble.when) + ", not run";
    case TroubleKind::waits:
      return "the drive is not there; a run that was due on " + local_text(trouble.when) + " waits for it";
    case TroubleKind::soon:
      return "the " + trouble.text + " that it may be without a good point end on " +
             local_text(trouble.when);
    case TroubleKind::never_run:
      return "it has never run: kestrum run " + subject_of(status);
    case TroubleKind::no_point:
      return "it has no point yet";
    case TroubleKind::unchecked:
      return "its sets could not be checked: " + trouble.text;
    case TroubleKind::drill:
      return "of the restore rehearsed on " + local_text(trouble.when) + ", " + trouble.text +
             ": kestrum drill " + subject_of(status);
    case TroubleKind::clock:
      return "its newest point or run is of " + local_text(trouble.when) +
             ", later than the clock says now: is the clock right?";
    case TroubleKind::cut_off:
      return "its last run is still going, or was cut off";
    case TroubleKind::drive_away:
      return "it is not there, and a set is to go to each drive";
    case TroubleKind::drive_bare:
      return "it has no good point, and a set is to go to each drive";
    case TroubleKind::broken:
      return broken_text(trouble.broken);
    case TroubleKind::problems:
      return count_text(trouble.count, "problem") + " in its last run" +
             (status.last ? ": kestrum history " + subject_of(status) + " --run " +
                                std::to_string(status.last->number)
                          : std::string());
    case TroubleKind::page:
      return "its report page could not be written: " + trouble.text;
    case TroubleKind::refused:
      return "its next run is refused: " + trouble.text;
    case TroubleKind::gone:
    case TroubleKind::failed:
    case TroubleKind::place:
    case TroubleKind::unfinished:
      return trouble.text;
  }
  return trouble.text;
}

// By the exit code of a run that failed.
std::string failure_advice(const JobStatus& status, const std::string& job) {
  const int code = status.last ? status.last->exit_code : 0;
  if (code == exit_code_of(ErrorKind::no_destination)) return "plug the drive in, then: kestrum run " + job;
  if (code == exit_code_of(ErrorKind::key))
    return "see that [protect] passphrase names the right file: kestrum job show " + job;
  if (code == exit_code_of(ErrorKind::wrong_drive))
    return "plug in the job's own drive; if this is to be its drive from now on: kestrum help run";
  if (code == exit_code_of(ErrorKind::full))
    return "make room: kestrum prune " + job + " --dry shows what could go, kestrum forecast " + job +
           " how it fills";
  if (code == exit_code_of(ErrorKind::damage)) return "see what is damaged: kestrum verify " + job;
  return "look at what happened: kestrum history " + job +
         (status.last ? " --run " + std::to_string(status.last->number) + " --log" : "");
}

}  // namespace

std::string job_title(const JobStatus& status) {
  return (status.machine.empty() ? "" : printable(status.machine) + ": ") + printable(status.job) +
         (status.folder.empty() ? "" : " (" + printable(status.folder) + ")");
}

std::string trouble_text(const JobTrouble& trouble, const JobStatus& status) {
  return (trouble.drive.empty() ? "" : printable(trouble.drive) + ": ") + words_of(trouble, status);
}

std::string trouble_advice(const JobTrouble& trouble, const JobStatus& status) {
  const std::string job = subject_of(status);
  switch (trouble.kind) {
    case TroubleKind::suspect:
      return "look at once, and leave the machine alone until you know; nothing is let go until you say: "
             "kestrum guard " +
             job + " --trust POINT, or --reject POINT";
    case TroubleKind::job_file:
      return "mend it: kestrum job edit " + job;
    case TroubleKind::damaged:
      return "verify lists the files; the next run saves anew what the sources still have";
    case TroubleKind::gone:
    case TroubleKind::refused:
    case TroubleKind::place:
      if (!trouble.advice.empty()) return trouble.advice;
      [[fallthrough]];
    case TroubleKind::incomplete:
      return "look at the drive: kestrum points " + job;
    case TroubleKind::failed:
      return failure_advice(status, job);
    case TroubleKind::overdue:
    case TroubleKind::soon:
      return "see why none came: kestrum history " + job + "; make one: kestrum run " + job;
    case TroubleKind::missed:
      return "is an agent there? kestrum status says so; make up for it: kestrum run " + job;
    case TroubleKind::waits:
      return "plug it in, and the run starts by itself";
    case TroubleKind::unchecked:
      return "see why: kestrum verify " + job;
    case TroubleKind::drill:
      return "see which files: kestrum drill " + job;
    case TroubleKind::clock:
      return "set the clock right";
    case TroubleKind::cut_off:
      return "see how far it came: kestrum history " + job;
    case TroubleKind::unfinished:
      return left_advice(status.job);
    case TroubleKind::drive_away:
    case TroubleKind::drive_bare:
      return "plug it in for the next run";
    case TroubleKind::page:
      return "another place: kestrum job edit " + job + " --tell-page FILE";
    case TroubleKind::broken:
      return "more room: kestrum forecast " + job + " shows how much is needed";
    case TroubleKind::never_run:
    case TroubleKind::no_point:
    case TroubleKind::problems:
      return {};  // it says so itself
  }
  return {};
}

// `what`: "check"; `not_yet`: that none was made.
static std::string look_sentence(const CheckLook& look, const std::string& what, const std::string& not_yet) {
  std::string text;
  if (look.last)
    text = "Last " + what + " " + local_text(look.last->started) + ": " + check_text(*look.last) + ".";
  if (!look.last && look.by_times) text = not_yet;
  if (look.going) return text + (text.empty() ? "" : " ") + "A " + what + " goes on.";
  if (!look.by_times) return text;
  if (look.wait)
    return text +
           (look.wait->reason == DueReason::drive ? " The next waits for the drive." : " The next is due.");
  return look.next ? text + " The next: " + local_text(*look.next) + "." : text;
}

std::string checks_sentence(const JobStatus& status) {
  const std::string checks = look_sentence(status.checks, "check", "It was not checked yet."),
                    drills = look_sentence(status.drills, "drill", "No restore was rehearsed yet.");
  return checks + (checks.empty() || drills.empty() ? "" : " ") + drills;
}

std::string state_sentence(const JobStatus& status, Instant now) {
  std::string text = status.newest_good ? "The newest good point is of " + weekday_text(*status.newest_good) +
                                              " " + local_text(*status.newest_good) + ", " +
                                              age_text(status.newest_good, now) + "."
                                        : "There is no good point.";
  if (status.disabled) text += " The job is disabled: it does not run by itself.";
  return text;
}

}  // namespace kestrum
