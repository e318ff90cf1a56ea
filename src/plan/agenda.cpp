#include "plan/agenda.hpp"

#include <algorithm>
#include <deque>

namespace kestrum {
namespace {

// As next_time; of "on change" the interval.
std::optional<Instant> next_of(const CountedTime& time, Instant after) {
  if (time.phrase.type != Phrase::Type::on_change) return next_time(time.phrase, after);
  constexpr std::int64_t day = 24 * 3600;
  const std::int64_t step = time.phrase.every > 0 ? std::int64_t{time.phrase.every} * 60 : day;
  const std::int64_t gone = after.seconds - time.since.seconds;
  return Instant{time.since.seconds + (gone < 0 ? 1 : gone / step + 1) * step, 0};
}

// full before differential before incremental; a kind before none.
std::optional<Kind> larger_kind(std::optional<Kind> a, std::optional<Kind> b) {
  auto rank = [](std::optional<Kind> kind) {
    return !kind ? 0 : *kind == Kind::full ? 3 : *kind == Kind::differential ? 2 : 1;
  };
  return rank(a) >= rank(b) ? a : b;
}

// The moments of all times together, in order, each once.
class Coming {
 public:
  // `after`: for each time.
  Coming(const std::vector<CountedTime>& times, const std::vector<Instant>& after) : times_(times) {
    for (std::size_t i = 0; i < times.size(); ++i) next_.push_back(next_of(times[i], after[i]));
  }

  std::optional<DueMoment> take() {
    std::optional<Instant> first;
    for (const std::optional<Instant>& one : next_) {
      if (one && (!first || *one < *first)) first = one;
    }
    if (!first) return std::nullopt;
    DueMoment moment{*first, {}, {}};
    for (std::size_t i = 0; i < next_.size(); ++i) {
      if (next_[i] != first) continue;
      const Phrase& phrase = times_[i].phrase;
      moment.kind = larger_kind(moment.kind, phrase.kind);
      moment.phrase += (moment.phrase.empty() ? "" : "; ") + phrase.text();
      next_[i] = next_of(times_[i], *first);
    }
    return moment;
  }

 private:
  const std::vector<CountedTime>& times_;
  std::vector<std::optional<Instant>> next_;
};

StartDecision wait_for(DueReason reason, std::optional<Instant> look_again = {}) {
  return {StartDecision::What::wait, reason, look_again};
}

}  // namespace

DueMoments due_between(const std::vector<CountedTime>& times, std::optional<Instant> known, Instant now,
                       std::size_t most) {
  std::vector<Instant> after;
  for (const CountedTime& time : times) after.push_back(known ? std::max(*known, time.since) : time.since);
  Coming coming(times, after);
  std::deque<DueMoment> last;
  DueMoments due;
  while (std::optional<DueMoment> moment = coming.take()) {
    if (moment->when > now) break;
    last.push_back(std::move(*moment));
    if (last.size() <= most) continue;
    if (due.before++ == 0) due.before_first = last.front().when;
    due.before_last = last.front().when;
    last.pop_front();
  }
  due.moments.assign(last.begin(), last.end());
  return due;
}

std::optional<DueMoment> next_due(const std::vector<CountedTime>& times, Instant now) {
  return Coming(times, std::vector<Instant>(times.size(), now)).take();
}

StartDecision decide_start(const StartQuestion& question) {
  using What = StartDecision::What;
  const std::vector<WaitingMoment>& waiting = question.waiting;
  if (waiting.empty()) return {};
  const bool any_late =
      std::any_of(waiting.begin(), waiting.end(), [](const WaitingMoment& one) { return one.late; });
  if (any_late && !question.catch_up) return {What::give_up, DueReason::not_watching, {}};
  if (question.running) return wait_for(DueReason::busy);
  if (question.pause && (!question.pause->until || *question.pause->until > question.now))
    return question.catch_up ? wait_for(DueReason::paused, question.pause->until)
                             : StartDecision{What::give_up, DueReason::paused, {}};
  const std::optional<Instant> opens = question.window.opens(question.now);
  if (opens != question.now) return wait_for(DueReason::window, opens);
  // What came in time does not wait for the machine to settle.
  const bool all_late =
      std::all_of(waiting.begin(), waiting.end(), [](const WaitingMoment& one) { return one.late; });
  if (all_late && question.settled > question.now) return wait_for(DueReason::settling, question.settled);
  if (question.not_before > question.now) return wait_for(DueReason::drive, question.not_before);
  if (question.held_back)
    return wait_for(DueReason::held_back, Instant{question.now.seconds + hold_back_seconds, 0});
  return {What::start, DueReason::none, {}};
}

Instant warn_from(Instant newest_good, const Span& limit) {
  const Instant end = after(newest_good, limit);
  const std::int64_t quarter = (end.seconds - newest_good.seconds) / 4;
  constexpr std::int64_t day = 24 * 3600;
  return {end.seconds - std::min(quarter, day), end.nanoseconds};
}

}  // namespace kestrum
