#include "plan/tell_plan.hpp"

#include <algorithm>
#include <chrono>

#include "calendar/local_time.hpp"

namespace kestrum {
namespace {

constexpr std::int64_t day = 86400;
// Troubles that have gone are remembered so long, for the case that they come and go.
constexpr std::int64_t forgotten_after = 7 * day;

Instant later(Instant when, std::int64_t seconds) {
  return {when.seconds + seconds, when.nanoseconds};
}

// From one telling to the next. The run of that day, which may bring the end of it, has its time first.
std::int64_t pause_after(unsigned times) {
  constexpr std::int64_t slack = patience_seconds - day;
  return (times >= 4 ? 7 * day : day << (times - 1)) + slack;
}

// Days from Monday to that local day.
int days_of_week(Instant when) {
  const LocalMinute local = to_local(when);
  const std::chrono::year_month_day date{std::chrono::year(local.year),
                                         std::chrono::month(static_cast<unsigned>(local.month)),
                                         std::chrono::day(static_cast<unsigned>(local.day))};
  return static_cast<int>(std::chrono::weekday(std::chrono::sys_days(date)).iso_encoding()) - 1;
}

// The last moment of a digest that is not later than `now`.
Instant digest_before(DigestEvery digest, Instant now) {
  const LocalMinute local = to_local(now);
  Instant at = from_local_earliest({local.year, local.month, local.day, digest_hour, 0, 0});
  const int step = digest == DigestEvery::weekly ? 7 : 1;
  if (digest == DigestEvery::weekly) at = calendar_steps_before(at, days_of_week(now), 0);
  return now < at ? calendar_steps_before(at, step, 0) : at;
}

Instant digest_after(DigestEvery digest, Instant now) {
  return calendar_steps_before(digest_before(digest, now), digest == DigestEvery::weekly ? -7 : -1, 0);
}

class Step {
 public:
  Step(const TellRules& rules, const TellMemory& memory, const TellLook& look) : rules_(rules), look_(look) {
    step_.after = memory;
    // What a clock that was ahead has written counts from now.
    for (ToldTrouble& told : step_.after.troubles) told.told = std::min(told.told, look.now);
    for (std::optional<Instant>* when : {&step_.after.since, &step_.after.bad, &step_.after.digest}) {
      if (*when) *when = std::min(**when, look.now);
    }
    if (step_.after.since) return;
    // What was before anybody was to be told is nobody's news.
    step_.after.since = look.now;
    step_.after.run = look.newest_run;
  }

  TellStep made() {
    if (rules_.problems) troubles();
    forget();
    if (rules_.good_again) good_again();
    runs();
    digest();
    if (step_.any()) step_.after.run = std::max(step_.after.run, look_.newest_run);
    return std::move(step_);
  }

 private:
  void look_again(Instant when) {
    if (!step_.look_again || when < *step_.look_again) step_.look_again = when;
  }

  void troubles() {
    for (std::size_t i = 0; i < look_.troubles.size(); ++i) trouble(i);
  }

  void trouble(std::size_t number) {
    const SeenTrouble& seen = look_.troubles[number];
    auto known = std::find_if(step_.after.troubles.begin(), step_.after.troubles.end(),
                              [&](const ToldTrouble& told) { return told.mark == seen.mark; });
    if (known == step_.after.troubles.end()) {
      if (look_.now < seen.tell_from) return look_again(seen.tell_from);
      step_.fresh.push_back(number);
      step_.after.troubles.push_back({seen.mark, look_.now, 1, true});
      step_.after.bad = look_.now;
      return;
    }
    const Instant next = later(known->told, known->there ? pause_after(known->times) : day);
    if (look_.now < next) return look_again(next);
    (known->there ? step_.again : step_.fresh).push_back(number);
    known->times = known->there ? known->times + 1 : 1;
    known->there = true;
    known->told = look_.now;
    step_.after.bad = look_.now;
  }

  bool is_there(const std::string& mark) const {
    return std::any_of(look_.troubles.begin(), look_.troubles.end(),
                       [&](const SeenTrouble& seen) { return seen.mark == mark; });
  }

  void forget() {
    for (ToldTrouble& told : step_.after.troubles) {
      if (!is_there(told.mark)) told.there = false;
    }
    std::erase_if(step_.after.troubles, [&](const ToldTrouble& told) {
      return !told.there && later(told.told, forgotten_after) <= look_.now;
    });
  }

  void good_again() {
    if (!step_.after.bad || !look_.troubles.empty()) return;
    if (!look_.good_run || *look_.good_run < *step_.after.bad) return;
    step_.good_again = true;
    step_.after.bad.reset();
  }

  void runs() { step_.runs = rules_.every_run && !look_.on_change && look_.newest_run > step_.after.run; }

  void digest() {
    DigestEvery wanted = rules_.digest;
    if (wanted == DigestEvery::none && rules_.every_run && look_.on_change) wanted = DigestEvery::daily;
    if (wanted == DigestEvery::none) return;
    const Instant due = digest_before(wanted, look_.now);
    if (step_.after.digest.value_or(*step_.after.since) < due) {
      step_.digest = true;
      step_.after.digest = look_.now;
    }
    look_again(digest_after(wanted, look_.now));
  }

  const TellRules& rules_;
  const TellLook& look_;
  TellStep step_;
};

}  // namespace

TellStep tell_step(const TellRules& rules, const TellMemory& memory, const TellLook& look) {
  return Step(rules, memory, look).made();
}

}  // namespace kestrum
