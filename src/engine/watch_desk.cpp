#include "engine/watch_desk.hpp"

#include <sys/eventfd.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cmath>
#include <cstdlib>

#include "base/text.hpp"
#include "engine/destination.hpp"
#include "job/job_selection.hpp"

namespace kestrum {
namespace {

// What never comes to rest is saved all the same, after so many times the settle time.
constexpr std::int64_t most_settling = 10;
constexpr unsigned most_doublings = 5;

std::int64_t seconds_of(const Span& span, Instant now) {
  return after(now, span).seconds - now.seconds;
}

std::vector<TreePath> own_places(const Home& home) {
  char* real = realpath(home.state_folder().c_str(), nullptr);
  const std::unique_ptr<char, void (*)(void*)> owned(real, std::free);
  const std::optional<TreePath> path = TreePath::parse(real != nullptr ? real : home.state_folder());
  return path ? std::vector<TreePath>{*path} : std::vector<TreePath>();
}

Instant later(Instant when, std::int64_t seconds) {
  return {when.seconds + seconds, when.nanoseconds};
}

}  // namespace

WatchDesk::WatchDesk(const RunContext& context, Tell tell)
    : context_(context), tell_(std::move(tell)), news_(eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK)) {
  if (!news_) throw system_error("watch", "the sources of jobs", errno);
}

void WatchDesk::begin(const std::string& name, const Job& job) {
  Watched& watched = watched_[name];
  const Instant now = context_.clock.now();
  watched.settle = seconds_of(job.settle, now);
  watched.least = seconds_of(job.least_interval, now);
  try {
    Selection selection = select(job.what, context_.people, now, [](const std::string&) {});
    exclude_destinations(job, selection);
    const std::string mark = selection_mark(selection);
    if (watched.watch && mark == watched.mark && selection.excluded == watched.excluded) return;
    watched.mark = mark;
    watched.excluded = selection.excluded;
    watched.watch.reset();
    watched.trouble.clear();
    ChangeWatch::Settings settings;
    settings.quiet = own_places(context_.home);
    watched.watch = std::make_unique<ChangeWatch>(std::move(selection), settings, [this] {
      const std::uint64_t one = 1;
      [[maybe_unused]] const ssize_t put = write(news_.get(), &one, sizeof one);
    });
  } catch (const Error& error) {
    watched.watch.reset();
    watched.trouble = error.what();
  }
}

void WatchDesk::jobs(const std::map<std::string, DeskJob>& jobs) {
  std::erase_if(watched_, [&](const auto& one) {
    auto job = jobs.find(one.first);
    return job == jobs.end() || !job->second.in_force || !runs_on_change(job->second.in_force->job);
  });
  for (const auto& [name, job] : jobs) {
    if (job.in_force && runs_on_change(job.in_force->job)) begin(name, job.in_force->job);
  }
}

void WatchDesk::mounts_changed() {
  for (auto& [name, job] : watched_) {
    if (job.watch) job.watch->mounts_changed();
  }
}

void WatchDesk::tell_standing(const std::string& name, Watched& job) {
  std::string words = job.trouble;
  bool works = false;
  if (job.watch) {
    const ChangeWatch::Standing standing = job.watch->standing();
    if (standing.state == ChangeWatch::State::beginning) return;
    works = standing.state == ChangeWatch::State::watching;
    words = standing.words;
  }
  const std::string line = works ? "its sources are watched: " + words
                                 : "its sources cannot be watched, so it runs at its interval only: " + words;
  if (line == job.told) return;
  job.told = line;
  tell_(name, works, line);
}

Instant WatchDesk::of(ChangeWatch::Moment moment) const {
  const std::chrono::duration<double> ago = ChangeWatch::Moment::clock::now() - moment;
  const double seconds = std::floor(ago.count() * context_.clock.rate());
  const double rest = ago.count() * context_.clock.rate() - seconds;
  constexpr std::int32_t billion = 1000000000;
  Instant when = context_.clock.now();
  when.seconds -= static_cast<std::int64_t>(seconds);
  when.nanoseconds -= static_cast<std::int32_t>(rest * billion);
  if (when.nanoseconds < 0) when = {when.seconds - 1, when.nanoseconds + billion};
  return when;
}

// When a run is due for what has happened; nothing: nothing has.
std::optional<Instant> WatchDesk::due(Watched& job, std::optional<Instant> last_run) const {
  const std::optional<ChangeWatch::Activity> activity = job.watch->activity();
  if (!activity) return std::nullopt;
  // Each is dated once, so that a clock that is set meanwhile changes nothing; one that went back holds
  // nothing up.
  const Instant now = context_.clock.now();
  if (std::exchange(job.seen_first, activity->first) != activity->first || job.first > now)
    job.first = of(activity->first);
  if (std::exchange(job.seen_last, activity->last) != activity->last || job.last > now)
    job.last = of(activity->last);
  Instant when = std::min(later(job.last, job.settle), later(job.first, job.settle * most_settling));
  const std::int64_t apart = job.least << std::min(job.in_vain, most_doublings);
  if (last_run) when = std::max(when, later(*last_run, apart));
  if (job.last_line) when = std::max(when, later(*job.last_line, apart));
  return when;
}

std::optional<Instant> WatchDesk::look(DueDesk& desk, const std::set<std::string>& going) {
  std::uint64_t count = 0;
  [[maybe_unused]] const ssize_t got = read(news_.get(), &count, sizeof count);
  const Instant now = context_.clock.now();
  std::optional<Instant> next;
  for (auto& [name, job] : watched_) {
    tell_standing(name, job);
    // What waits takes it along, and what goes on is followed by another look.
    if (!job.watch || going.contains(name) || !desk.book().waiting(name).empty()) continue;
    const std::vector<RunEntry> runs = desk.ledger().runs(name, 1);
    // A clock that was ahead holds nothing up.
    const bool any = !runs.empty() && runs[0].started <= now;
    if (job.last_line && *job.last_line > now) job.last_line.reset();
    std::optional<Instant> when = due(job, any ? std::optional(runs[0].started) : std::nullopt);
    if (when && *when <= now) {
      // By the desk's clock: a second may have ended since.
      if (const std::optional<Instant> added = desk.add_change(name)) {
        job.last_line = *added;
        ++job.in_vain;
        job.moments.insert(added->seconds);
        continue;
      }
      when = later(now, 1);
    }
    if (when && (!next || *when < *next)) next = when;
  }
  return next;
}

void WatchDesk::begins(const DueStart& start) {
  auto found = watched_.find(start.job);
  if (found == watched_.end() || !found->second.watch) return;
  Watched& job = found->second;
  const std::optional<ChangeWatch::HandOver> changes = job.watch->hand_over();
  const bool only_changes =
      std::all_of(start.moments.begin(), start.moments.end(),
                  [&](const Instant& moment) { return job.moments.contains(moment.seconds); });
  job.moments.clear();
  if (!changes) {
    // Perhaps it can be by now.
    job.watch->try_again();
    return;
  }
  static const SystemClock system;
  const Clock& dated_by = context_.file_clock != nullptr ? *context_.file_clock : system;
  job.handed = WatchNote{start.start, job.mark, dated_by.now(), !only_changes, *changes};
  try {
    write_watch_note(context_.home, start.job, *job.handed);
  } catch (const Error& error) {
    // Without it the run looks at everything.
    context_.observer.note("the run is not told of changes: " + std::string(error.what()));
  }
}

void WatchDesk::ended(const std::string& name) {
  auto found = watched_.find(name);
  if (found == watched_.end() || !found->second.handed) return;
  Watched& job = found->second;
  const WatchNote given = *std::exchange(job.handed, {});
  const ChangeWatch::HandOver& handed = given.changes;
  const std::optional<WatchNote> note = read_watch_note(context_.home, name, given.start);
  remove_watch_note(context_.home, name);
  // What every drive has that was written to under this watch need not be remembered.
  std::optional<std::uint64_t> all_have;
  bool reached = false;
  try {
    for (const DriveState& drive : context_.home.load_state(name).value_or(JobState()).drives) {
      for (const WatchedSet& set : drive.watched) {
        if (set.watch != handed.watch) continue;
        reached = reached || set.period == handed.period;
        all_have = std::min(all_have.value_or(set.period), set.period);
      }
    }
  } catch (const Error&) {
    // The run has told of that.
  }
  if (reached) job.in_vain = 0;
  if (!job.watch) return;
  if (all_have) job.watch->forget_until(*all_have);
  if (!reached) job.watch->again();
  if (reached && note && note->looked_from) job.watch->saved_until(*note->looked_from);
}

}  // namespace kestrum
