#include "plan/forecast.hpp"

#include <algorithm>
#include <cmath>
#include <exception>

#include "base/error.hpp"
#include "base/set_needs.hpp"
#include "base/thread_group.hpp"
#include "calendar/local_time.hpp"
#include "plan/chain_plan.hpp"
#include "plan/space_plan.hpp"

namespace kestrum {
namespace {

double days_between(Instant a, Instant b) {
  return std::chrono::duration<double>(between(a, b)).count() / 86400;
}

class Future {
 public:
  explicit Future(const ForecastQuestion& question) : question_(question), now_(question.now) {
    asked_.rules = question.keep;
    asked_.endless = question.renew.never();
    asked_.total = question.total;
    for (const KeptSet& set : question.sets) {
      double span = 0;
      for (const KeptSet& base : asked_.sets) {
        if (set.facts.base == base.facts.sequence) span = days_between(base.facts.started, set.facts.started);
      }
      last_ = std::max(last_, set.facts.sequence);
      all_good_ = all_good_ && set.good;
      insert(asked_.sets.size(), set, span);
    }
    std::uint64_t used = question.total - std::min(question.total, question.free);
    others_ = used - std::min(used, job_bytes_);
    out_.rules = acting_rules(question.keep);
  }

  Forecast live() {
    Instant end = {question_.now.seconds + std::int64_t{question_.days} * 86400, 0};
    LocalMinute date = to_local(question_.now);
    open_day(end_of_day(date.year, date.month, date.day));
    std::vector<Occurrence> coming = times(end);
    for (const Occurrence& one : coming) {
      while (one.when > out_.days.back().ends) next_day();
      now_ = one.when;
      run(one.phrase < question_.runs.size() ? question_.runs[one.phrase].kind : std::nullopt);
    }
    while (out_.days.back().ends < end) next_day();
    close_day();
    return std::move(out_);
  }

 private:
  std::vector<Occurrence> times(Instant end) const {
    std::vector<Occurrence> out;
    bool scheduled = std::any_of(question_.runs.begin(), question_.runs.end(), [&](const Phrase& phrase) {
      return next_time(phrase, question_.now).has_value();
    });
    if (!scheduled) {
      for (unsigned day = 1; day <= question_.days; ++day)
        out.push_back({{question_.now.seconds + std::int64_t{day} * 86400, 0}, question_.runs.size()});
      return out;
    }
    Instant at = question_.now;
    while (true) {
      std::vector<Occurrence> some = next_times(question_.runs, at, 64);
      for (const Occurrence& one : some) {
        if (one.when > end) return out;
        out.push_back(one);
      }
      if (some.empty()) return out;
      at = some.back().when;
    }
  }

  std::vector<KeptSet>& sets() { return asked_.sets; }
  void insert(std::size_t at, KeptSet set, double span) {
    auto place = static_cast<std::ptrdiff_t>(at);
    job_bytes_ += set.facts.totals.stored_bytes;
    chain_.insert(chain_.begin() + place, {.facts = set.facts, .damaged = !set.good});
    spans_.insert(spans_.begin() + place, span);
    sets().insert(sets().begin() + place, std::move(set));
  }
  void erase(std::size_t from, std::size_t to) {
    for (std::size_t i = from; i < to; ++i) job_bytes_ -= sets()[i].facts.totals.stored_bytes;
    auto cut = [&](auto& list) {
      list.erase(list.begin() + static_cast<std::ptrdiff_t>(from),
                 list.begin() + static_cast<std::ptrdiff_t>(to));
    };
    cut(chain_);
    cut(spans_);
    cut(sets());
  }
  void touch(std::uint64_t bytes) {
    out_.peak_bytes = std::max(out_.peak_bytes, bytes);
    out_.days.back().peak_bytes = std::max(out_.days.back().peak_bytes, bytes);
  }

  void open_day(Instant ends) {
    out_.days.push_back({.ends = ends});
    touch(job_bytes_);
  }
  void close_day() {
    ForecastDay& day = out_.days.back();
    day.job_bytes = job_bytes_;
    day.points = sets().size();
    day.restore_sets = restore_sets();
    if (out_.runs > 0) out_.most_restore_sets = std::max(out_.most_restore_sets, day.restore_sets);
  }
  void next_day() {
    close_day();
    LocalMinute date = to_local({out_.days.back().ends.seconds + 3600 * 12, 0});
    open_day(end_of_day(date.year, date.month, date.day));
  }

  std::uint64_t free() const { return question_.total - std::min(question_.total, others_ + job_bytes_); }

  std::int64_t room() const { return room_left(out_.rules, job_bytes_, question_.total, free()); }

  void run(std::optional<Kind> asked) {
    ForecastDay& day = out_.days.back();
    ++day.runs;
    double span = 0;
    KeptSet next = next_set(asked, span);
    std::uint64_t bytes = next.facts.totals.stored_bytes;
    if (room() < static_cast<std::int64_t>(bytes)) {
      prune(bytes);
      next = next_set(asked, span);  // what it builds on may have been folded
      bytes = next.facts.totals.stored_bytes;
    }
    if (room() < static_cast<std::int64_t>(bytes)) {
      ++day.failed;
      if (!out_.full_on) out_.full_on = now_;
      return;
    }
    ++out_.runs;
    ++last_;
    if (next.facts.kind == Kind::full) ++out_.fulls;
    out_.written_bytes += bytes;
    insert(sets().size(), std::move(next), span);
    touch(job_bytes_);
    prune(0);
  }

  // `span`: days since its base; of a full, 0. How many days of change a set holds is what its folding
  // depends on.
  KeptSet next_set(std::optional<Kind> asked, double& span) {
    KindDecision decision =
        decide_kind({question_.kind, question_.renew}, chain_, ProtectionChange::none, asked, now_);
    KeptSet next;
    SetFacts& facts = next.facts;
    facts.sequence = last_ + 1;
    for (int i = 0; i < 4; ++i)
      facts.set[static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(facts.sequence >> (8 * i));
    facts.set[15] = 1;
    facts.chain = decision.chain.value_or(facts.set);
    facts.kind = decision.kind;
    facts.base = decision.base;
    facts.needs_follow = decision.base.has_value();
    facts.started = facts.ended = now_;
    span = 0;
    facts.totals.stored_bytes = question_.sizes.full_after(days_between(question_.now, now_));
    if (!decision.base) return next;
    auto base = std::find_if(sets().rbegin(), sets().rend(),
                             [&](const KeptSet& set) { return set.facts.sequence == *decision.base; });
    facts.needs = {{base->facts.sequence, base->facts.set}};
    span = days_between(base->facts.started, now_);
    facts.totals.stored_bytes = question_.sizes.changed_bytes(span);
    return next;
  }

  void prune(std::uint64_t make_room) {
    for (std::size_t round = sets().size() + 2; round > 0; --round) {
      asked_.now = now_;
      asked_.free = free();
      asked_.make_room = make_room;
      KeepPlan plan = plan_keep(asked_);
      for (const BrokenPromise& broken : plan.broken) {
        bool known = std::any_of(out_.broken.begin(), out_.broken.end(),
                                 [&](const Promise& one) { return one.same_rule(broken.promise); });
        if (!known) out_.broken.push_back(broken.promise);
      }
      if (plan.empty()) return;
      for (const KeepStep& step : plan.steps) carry_out(step);
      // Where everything is good and fits, one round does it: what is gone makes nothing else unwanted.
      if (all_good_ && plan.excess == 0) return;
    }
  }

  void carry_out(const KeepStep& step) {
    auto place_of = [&](Sequence sequence) {
      auto at = std::lower_bound(sets().begin(), sets().end(), sequence,
                                 [](const KeptSet& set, Sequence one) { return set.facts.sequence < one; });
      return static_cast<std::size_t>(at - sets().begin());
    };
    std::size_t begin = place_of(step.first), end = place_of(step.last) + 1;
    if (!step.fold) {
      erase(begin, end);
      ++out_.removed;
      return;
    }
    double span = 0;
    std::uint64_t sum = 0, largest = 0;
    for (std::size_t i = begin; i < end; ++i) {
      const SetFacts& one = sets()[i].facts;
      // Differentials all reach back to the same set.
      span = one.kind == Kind::differential ? std::max(span, spans_[i]) : span + spans_[i];
      sum += one.totals.stored_bytes;
      largest = std::max(largest, one.totals.stored_bytes);
    }
    out_.folded += end - begin - 1;
    KeptSet folded = sets()[end - 1];
    SetFacts& facts = folded.facts;
    facts.folded_from = step.first;
    facts.kind = sets()[begin].facts.kind;
    facts.needs = sets()[begin].facts.needs;
    facts.needs_follow = !facts.needs.empty();
    facts.without.clear();
    facts.set[14] = static_cast<std::uint8_t>(facts.set[14] + 1);
    double day = days_between(question_.now, facts.started);
    std::uint64_t bytes = facts.kind == Kind::full ? question_.sizes.full_after(std::max(day, 0.0))
                                                   : question_.sizes.changed_bytes(span);
    facts.totals.stored_bytes = std::min(sum, bytes);
    // Volumes of which most is needed stay as they lie; one is written again when a quarter of it is not.
    std::uint64_t copied = std::min(facts.totals.stored_bytes, 4 * (sum - largest));
    touch(job_bytes_ + copied);
    out_.written_bytes += copied;
    if (facts.kind == Kind::full) span = 0;
    erase(begin, end - 1);
    job_bytes_ += facts.totals.stored_bytes - sets()[begin].facts.totals.stored_bytes;
    chain_[begin] = {.facts = facts, .damaged = !folded.good};
    spans_[begin] = span;
    sets()[begin] = std::move(folded);
  }

  // Sets that the newest point takes to be restored, itself included.
  std::size_t restore_sets() const {
    if (asked_.sets.empty()) return 0;
    std::vector<const SetFacts*> facts;
    for (const KeptSet& one : asked_.sets) facts.push_back(&one.facts);
    return SetNeeds(std::move(facts)).closure(asked_.sets.back().facts).met.size() + 1;
  }

  const ForecastQuestion& question_;
  Instant now_;
  KeepQuestion asked_;           // its sets are the list that is worked on
  std::vector<ChainSet> chain_;  // the same sets, as choosing a kind sees them
  std::vector<double> spans_;    // of each, in days
  std::uint64_t job_bytes_ = 0;
  bool all_good_ = true;
  Sequence last_ = 0;
  std::uint64_t others_ = 0;  // used on the drive by anything else
  Forecast out_;
};

}  // namespace

std::uint64_t SizeModel::changed_bytes(double days) const {
  double all = static_cast<double>(std::max<std::uint64_t>(full_bytes, 1));
  double changed = all * (1 - std::exp(-change_a_day * std::max(days, 0.0) / all));
  return least_bytes + static_cast<std::uint64_t>(changed);
}

std::uint64_t SizeModel::full_after(double days) const {
  return full_bytes + static_cast<std::uint64_t>(growth_a_day * std::max(days, 0.0));
}

SizeModel size_model(const std::vector<KeptSet>& sets, std::uint64_t fallback_full) {
  SizeModel model;
  const SetFacts* full = nullptr;
  double days = 0, changed = 0;
  std::uint64_t least = UINT64_MAX;
  std::size_t seen = 0;
  for (std::size_t i = sets.size(); i-- > 0;) {
    const SetFacts& facts = sets[i].facts;
    if (facts.kind == Kind::full) {
      if (full == nullptr) full = &facts;
      continue;
    }
    if (facts.folded_from || !facts.base || seen >= 60) continue;
    for (const KeptSet& base : sets) {
      if (base.facts.sequence != *facts.base) continue;
      double span = days_between(base.facts.started, facts.started);
      if (span <= 0) continue;
      ++seen;
      // Of differentials the first ones say most: later ones hold changes of the same files only once.
      double weight = facts.kind == Kind::differential ? 1 / span : 1;
      days += span * weight;
      changed += static_cast<double>(facts.totals.stored_bytes) * weight;
      least = std::min(least, facts.totals.stored_bytes);
    }
  }
  if (full == nullptr) {
    model.full_bytes = fallback_full;
    model.full_assumed = true;
  } else {
    double share = full->totals.bytes > 0 ? static_cast<double>(sets.back().facts.totals.bytes) /
                                                static_cast<double>(full->totals.bytes)
                                          : 1;
    model.full_bytes = static_cast<std::uint64_t>(static_cast<double>(full->totals.stored_bytes) * share);
    double lived = days_between(sets.front().facts.started, sets.back().facts.started);
    double grown = static_cast<double>(sets.back().facts.totals.bytes) -
                   static_cast<double>(sets.front().facts.totals.bytes);
    double stored_share = full->totals.bytes > 0 ? static_cast<double>(full->totals.stored_bytes) /
                                                       static_cast<double>(full->totals.bytes)
                                                 : 1;
    if (lived > 0.5) model.growth_a_day = std::max(0.0, grown / lived * stored_share);
  }
  if (days > 0) {
    model.change_a_day = changed / days;
    // A set in which nothing changed still takes its seal and a page or two.
    model.least_bytes = std::min<std::uint64_t>(least, 8192);
    model.change_a_day = std::max(
        0.0, model.change_a_day - static_cast<double>(model.least_bytes) * static_cast<double>(seen) / days);
  } else {
    model.change_a_day = static_cast<double>(model.full_bytes) / 100;
    model.least_bytes = 8192;
    model.change_assumed = true;
  }
  return model;
}

Forecast forecast(const ForecastQuestion& question) {
  return Future(question).live();
}

std::vector<Scenario> forecast_side_by_side(const ForecastQuestion& question) {
  std::vector<Scenario> out;
  std::vector<ForecastQuestion> questions;
  RenewRules renewing = question.renew;
  if (renewing.never()) renewing.every_sets = 30;
  auto add = [&](const std::string& name, Kind kind, bool folding) {
    ForecastQuestion asked = question;
    asked.kind = kind;
    asked.renew = folding ? RenewRules{} : renewing;
    if (folding) asked.keep.chains.reset();  // a chain that never ends keeps everything
    for (Phrase& phrase : asked.runs) phrase.kind.reset();
    bool own = question.kind == kind && question.renew.never() == folding;
    if (kind == Kind::full) own = question.kind == kind;
    out.push_back({name, own, {}});
    questions.push_back(own ? question : asked);
  };
  add("full", Kind::full, false);
  add("differential", Kind::differential, false);
  add("incremental", Kind::incremental, false);
  add("incremental, folded for ever", Kind::incremental, true);
  bool any = std::any_of(out.begin(), out.end(), [](const Scenario& one) { return one.own; });
  if (!any) {
    out.insert(out.begin(), {"as the job is", true, {}});
    questions.insert(questions.begin(), question);
  }
  std::vector<std::exception_ptr> failed(out.size());
  ThreadGroup threads;
  for (std::size_t i = 0; i < out.size(); ++i) {
    auto live = [&, i] {
      try {
        out[i].forecast = forecast(questions[i]);
      } catch (...) {
        failed[i] = std::current_exception();
      }
    };
    try {
      threads.start(live);
    } catch (const Error&) {
      live();  // no further thread: one after the other then
    }
  }
  threads.join();
  for (const std::exception_ptr& one : failed) {
    if (one) std::rethrow_exception(one);
  }
  return out;
}

}  // namespace kestrum
