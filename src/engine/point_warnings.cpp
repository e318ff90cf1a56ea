#include "engine/point_warnings.hpp"

#include "calendar/local_time.hpp"

namespace kestrum {

std::optional<Instant> PointWarnings::look(DueDesk& desk, Instant now, const Tell& tell) {
  std::optional<Instant> next;
  for (const auto& [name, job] : desk.jobs()) {
    if (!job.in_force || !job.in_force->job.warn_after || job.times.empty()) continue;
    const Span& limit = *job.in_force->job.warn_after;
    const std::optional<RunEntry> newest = desk.ledger().newest_point(name, now);
    const Instant since = newest ? newest->started : job.times[0].since;
    // What a clock that was far ahead has said was said too soon.
    const Warned& warned = warned_[name];
    if (warned.since == since && warned.said.seconds <= now.seconds + clock_ahead_seconds) continue;
    const Instant begins = warn_from(since, limit);
    auto look_again = [&](Instant when) {
      if (!next || when < *next) next = when;
    };
    if (now < begins) {
      look_again(begins);
      continue;
    }
    // The run that comes in time is no reason to worry.
    const std::optional<DueMoment> due = next_due(job.times, now);
    const std::optional<Instant> opens = due ? job.in_force->job.window.opens(due->when) : std::nullopt;
    if (opens && *opens < after(since, limit) && !desk.waits().contains(name)) {
      look_again({opens->seconds + in_time_seconds, 0});
      continue;
    }
    warned_[name] = {since, now};
    tell(name, "no good point since " + local_text(since) + "; the " + limit.text() +
                   " that the job allows end on " + local_text(after(since, limit)));
  }
  return next;
}

}  // namespace kestrum
