#include "tell/due_words.hpp"

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

std::string moment_text(Instant when) {
  return weekday_text(when) + " " + local_text(when);
}

std::string waits_for(const DueWait& wait) {
  const std::string until = wait.look_again ? " until " + moment_text(*wait.look_again) : "";
  switch (wait.reason) {
    case DueReason::drive:
      return "for the drive " + printable(wait.drive);
    case DueReason::window:
      return "for the hours in which runs may start," + until;
    case DueReason::paused:
      return wait.look_again ? "because it is paused," + until : "because it is paused";
    case DueReason::settling:
      return "until the machine has been up for a few minutes";
    case DueReason::busy:
      return "for another run to end";
    default:
      return "to be started";
  }
}

std::string reason_text(DueReason reason) {
  switch (reason) {
    case DueReason::not_watching:
      return "nobody was there to start it";
    case DueReason::settling:
      return "the machine has only just been switched on";
    case DueReason::window:
      return "outside of the hours in which runs may start";
    case DueReason::paused:
      return "the job was paused";
    case DueReason::drive:
      return "its drive was not there";
    case DueReason::busy:
      return "another run went on";
    case DueReason::cut_off:
      return "its run was cut off";
    case DueReason::not_started:
      return "its run could not be started";
    case DueReason::withdrawn:
      return "the job, or that time of it, was taken back";
    case DueReason::none:
      break;
  }
  return {};
}

}  // namespace

std::string wait_text(const DueWait& wait) {
  return waits_for(wait) + ", since " + moment_text(wait.since);
}

std::string due_text(const DueLine& line, const std::optional<RunEntry>& run) {
  const std::string because = reason_text(line.reason);
  switch (line.fate) {
    case DueFate::waiting:
      return because.empty() ? "waits" : "waits: " + because;
    case DueFate::missed:
      return "missed: " + because;
    case DueFate::skipped:
      return "skipped: " + because;
    case DueFate::ran:
      break;
  }
  if (!run) return "run, which the history does not know";
  const std::string number = "run " + std::to_string(run->number);
  const bool made = run->ended && run->exit_code <= exit_problems;
  if (made && (line.late || !line.own)) return "made up for by " + number;
  return std::string(result_text(run->result)) + ", " + number;
}

}  // namespace kestrum
