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
    case DueReason::held_back:
      return "because the machine is on battery or under load";
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
    case DueReason::held_back:
      return "the machine was on battery or under load";
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

// Of a moment that still waits.
std::string awaited_text(DueReason reason) {
  switch (reason) {
    case DueReason::drive:
      return "its drive is not there";
    case DueReason::window:
      return "for the hours in which runs may start";
    case DueReason::paused:
      return "the job is paused";
    case DueReason::busy:
      return "for another run to end";
    case DueReason::held_back:
      return "because the machine is on battery or under load";
    default:
      return reason_text(reason);
  }
}

}  // namespace

std::string wait_text(const DueWait& wait) {
  return waits_for(wait) + ", since " + moment_text(wait.since);
}

// A run that made its point, later than it should.
static bool is_made_up(const DueLine& line, const std::optional<RunEntry>& run) {
  return line.fate == DueFate::ran && run && run->ended && run->exit_code <= exit_problems &&
         (line.late || !line.own);
}

DueWords due_words(const DueLine& line, const std::optional<RunEntry>& run) {
  switch (line.fate) {
    case DueFate::waiting:
      return {"waits", awaited_text(line.reason)};
    case DueFate::missed:
    case DueFate::skipped:
      return {std::string(fate_text(line.fate)), reason_text(line.reason)};
    case DueFate::ran:
      break;
  }
  if (!run) return {"run", "the history does not know which"};
  if (is_made_up(line, run)) return {"made up for", "by run " + std::to_string(run->number)};
  return {std::string(result_text(run->result)), "run " + std::to_string(run->number)};
}

std::string due_text(const DueLine& line, const std::optional<RunEntry>& run) {
  const DueWords words = due_words(line, run);
  if (words.because.empty()) return words.became;
  const char* between = line.fate != DueFate::ran ? ": " : is_made_up(line, run) ? " " : ", ";
  return words.became + between + words.because;
}

}  // namespace kestrum
