#include "plan/job_time.hpp"

#include <algorithm>

namespace kestrum {
namespace {

constexpr std::int64_t day = 86400;

// Places of the longest row of dates that does not fall; of several the one that ends earliest.
std::vector<bool> in_order(const std::vector<std::int64_t>& dates) {
  std::vector<bool> out(dates.size(), true);
  if (std::is_sorted(dates.begin(), dates.end())) return out;
  std::vector<std::size_t> tails, before(dates.size());  // the end of the best row of each length
  for (std::size_t i = 0; i < dates.size(); ++i) {
    auto at = std::upper_bound(tails.begin(), tails.end(), dates[i],
                               [&](std::int64_t date, std::size_t tail) { return date < dates[tail]; });
    before[i] = at == tails.begin() ? i : *(at - 1);
    if (at == tails.end()) {
      tails.push_back(i);
    } else {
      *at = i;
    }
  }
  out.assign(dates.size(), false);
  for (std::size_t i = tails.back();; i = before[i]) {
    out[i] = true;
    if (before[i] == i) return out;
  }
}

// Dates out of order are those between the good ones beside them, as the numbers of the points lie.
std::vector<Instant> made_dates(const std::vector<KeptSet>& sets, const std::vector<bool>& good,
                                Instant now) {
  std::vector<Instant> made;
  made.reserve(sets.size());
  const SetFacts* last = nullptr;
  for (std::size_t i = 0; i < sets.size(); ++i) {
    const SetFacts& own = sets[i].facts;
    made.push_back(own.started);
    if (good[i]) last = &own;
    if (good[i]) continue;
    std::size_t next = i;
    while (next < sets.size() && !good[next]) ++next;
    Sequence end = next < sets.size() ? sets[next].facts.sequence : sets.back().facts.sequence + 1;
    Instant until = next < sets.size() ? sets[next].facts.started : now;
    made.back() = until;
    if (last == nullptr || until < last->started) continue;
    made.back().seconds = last->started.seconds + (until.seconds - last->started.seconds) *
                                                      (own.sequence - last->sequence) /
                                                      (end - last->sequence);
  }
  return made;
}

// Seconds from one run to the next, in the middle of what was seen; nothing when too little was.
std::optional<std::int64_t> rhythm_of(const std::vector<KeptSet>& sets, const std::vector<Instant>& made) {
  constexpr std::size_t enough = 4;
  std::vector<std::int64_t> gaps;
  for (std::size_t i = 1; i < sets.size(); ++i) {
    auto runs = static_cast<std::int64_t>(sets[i].facts.sequence) - sets[i - 1].facts.sequence;
    gaps.push_back((made[i].seconds - made[i - 1].seconds) / std::max<std::int64_t>(runs, 1));
  }
  if (gaps.size() < enough) return std::nullopt;
  auto middle = gaps.begin() + static_cast<std::ptrdiff_t>(gaps.size() / 2);
  std::nth_element(gaps.begin(), middle, gaps.end());
  return *middle;
}

// Of the time from one point to the next, `runs` runs later, the seconds that the job's rhythm does not
// explain; 0 where they are few.
std::int64_t unexplained(std::int64_t gap, std::int64_t runs, std::int64_t rhythm) {
  std::int64_t more = gap - std::max<std::int64_t>(runs, 1) * rhythm;
  return more > 7 * day && more > 3 * rhythm && more > gap / 2 ? more : 0;
}

}  // namespace

JobTime job_time(const std::vector<KeptSet>& sets, Instant now) {
  JobTime time;
  const std::size_t count = sets.size();
  time.away.assign(count, 0);
  if (count == 0) return time;
  std::vector<std::int64_t> dates;
  dates.reserve(count);
  for (const KeptSet& set : sets) dates.push_back(set.facts.started.seconds);
  std::vector<bool> good = in_order(dates);
  // Now must follow on what most dates say. Where as many speak against it as for it, it may be either.
  for (std::size_t i = 0; i < count; ++i) time.now_is_behind |= good[i] && dates[i] > now.seconds;
  for (std::size_t i = 0; i < count; ++i) time.misdated.push_back(!good[i]);
  time.made = made_dates(sets, good, time.now_is_behind ? sets.back().facts.started : now);
  std::optional<std::int64_t> rhythm = rhythm_of(sets, time.made);
  if (!rhythm || time.now_is_behind) return time;
  std::int64_t away = unexplained(now.seconds - time.made.back().seconds, 1, *rhythm);
  if (away > 0) time.absence = {time.made.back(), now, away};
  for (std::size_t i = count; i-- > 0;) {
    time.away[i] = away;
    if (i == 0) break;
    auto runs = static_cast<std::int64_t>(sets[i].facts.sequence) - sets[i - 1].facts.sequence;
    std::int64_t more = unexplained(time.made[i].seconds - time.made[i - 1].seconds, runs, *rhythm);
    if (more > 0 && i + 1 == count && !time.absence) time.absence = {time.made[i - 1], time.made[i], more};
    away += more;
  }
  return time;
}

}  // namespace kestrum
