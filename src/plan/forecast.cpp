#include "plan/forecast.hpp"

#include <algorithm>
#include <cmath>

#include "base/set_needs.hpp"
#include "calendar/local_time.hpp"
#include "plan/chain_plan.hpp"
#include "plan/space_plan.hpp"

namespace kestrum {
namespace {

double days_between(Instant a, Instant b) {
  return std::chrono::duration<double>(between(a, b)).count() / 86400;
}

// A set of the future, or one of now: how many days of change it holds is what its folding depends on.
struct FutureSet {
  KeptSet set;
  double span_days = 0;  // since its base; of a full, 0
};

class Future {
 public:
  explicit Future(const ForecastQuestion& question) : question_(question), now_(question.now) {
    for (const KeptSet& set : question.sets) {
      FutureSet one{set, 0};
      if (set.facts.base) {
        for (const FutureSet& base : sets_) {
          if (base.set.facts.sequence == *set.facts.base)
            one.span_days = days_between(base.set.facts.started, set.facts.started);
        }
      }
      last_ = std::max(last_, set.facts.sequence);
      sets_.push_back(std::move(one));
    }
    std::uint64_t used = question.total - std::min(question.total, question.free);
    others_ = used - std::min(used, job_bytes());
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

  std::uint64_t job_bytes() const {
    std::uint64_t bytes = 0;
    for (const FutureSet& one : sets_) bytes += one.set.facts.totals.stored_bytes;
    return bytes;
  }
  void touch(std::uint64_t bytes) {
    out_.peak_bytes = std::max(out_.peak_bytes, bytes);
    out_.days.back().peak_bytes = std::max(out_.days.back().peak_bytes, bytes);
  }

  void open_day(Instant ends) {
    out_.days.push_back({.ends = ends});
    touch(job_bytes());
  }
  void close_day() {
    ForecastDay& day = out_.days.back();
    day.job_bytes = job_bytes();
    day.points = sets_.size();
    day.restore_sets = restore_sets();
    if (out_.runs > 0) out_.most_restore_sets = std::max(out_.most_restore_sets, day.restore_sets);
  }
  void next_day() {
    close_day();
    LocalMinute date = to_local({out_.days.back().ends.seconds + 3600 * 12, 0});
    open_day(end_of_day(date.year, date.month, date.day));
  }

  std::vector<ChainSet> chain_sets() const {
    std::vector<ChainSet> out;
    for (const FutureSet& one : sets_) out.push_back({.facts = one.set.facts, .damaged = !one.set.good});
    return out;
  }

  KeepQuestion keep_question(std::uint64_t make_room) const {
    KeepQuestion asked;
    asked.rules = question_.keep;
    asked.endless = question_.renew.never();
    for (const FutureSet& one : sets_) asked.sets.push_back(one.set);
    asked.now = now_;
    asked.total = question_.total;
    std::uint64_t used = others_ + job_bytes();
    asked.free = question_.total - std::min(question_.total, used);
    asked.make_room = make_room;
    return asked;
  }

  std::int64_t room() const {
    std::uint64_t used = others_ + job_bytes();
    return room_left(acting_rules(question_.keep), job_bytes(), question_.total,
                     question_.total - std::min(question_.total, used));
  }

  void run(std::optional<Kind> asked) {
    ForecastDay& day = out_.days.back();
    ++day.runs;
    FutureSet next = next_set(asked);
    std::uint64_t bytes = next.set.facts.totals.stored_bytes;
    if (room() < static_cast<std::int64_t>(bytes)) {
      prune(bytes);
      next = next_set(asked);  // what it builds on may have been folded
      bytes = next.set.facts.totals.stored_bytes;
    }
    if (room() < static_cast<std::int64_t>(bytes)) {
      ++day.failed;
      if (!out_.full_on) out_.full_on = now_;
      return;
    }
    ++out_.runs;
    ++last_;
    if (next.set.facts.kind == Kind::full) ++out_.fulls;
    out_.written_bytes += bytes;
    sets_.push_back(std::move(next));
    touch(job_bytes());
    prune(0);
  }

  FutureSet next_set(std::optional<Kind> asked) {
    KindDecision decision =
        decide_kind({question_.kind, question_.renew}, chain_sets(), ProtectionChange::none, asked, now_);
    if (!out_.next_kind) {
      out_.next_kind = decision.kind;
      out_.next_reason = decision.reason;
    }
    FutureSet next;
    SetFacts& facts = next.set.facts;
    facts.sequence = last_ + 1;
    for (int i = 0; i < 4; ++i)
      facts.set[static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(facts.sequence >> (8 * i));
    facts.set[15] = 1;
    facts.chain = decision.chain.value_or(facts.set);
    facts.kind = decision.kind;
    facts.base = decision.base;
    facts.needs_follow = decision.base.has_value();
    facts.started = facts.ended = now_;
    double day = days_between(question_.now, now_);
    std::uint64_t bytes = question_.sizes.full_after(day);
    for (const FutureSet& base : sets_) {
      if (!decision.base || base.set.facts.sequence != *decision.base) continue;
      facts.needs = {{base.set.facts.sequence, base.set.facts.set}};
      next.span_days = days_between(base.set.facts.started, now_);
      bytes = question_.sizes.changed_bytes(next.span_days);
    }
    facts.totals.stored_bytes = bytes;
    return next;
  }

  void prune(std::uint64_t make_room) {
    for (std::size_t round = sets_.size() + 2; round > 0; --round) {
      KeepPlan plan = plan_keep(keep_question(make_room));
      for (const std::string& broken : plan.broken) {
        std::string rule = broken.substr(0, broken.find(':'));
        if (std::find(out_.broken.begin(), out_.broken.end(), rule) == out_.broken.end())
          out_.broken.push_back(rule);
      }
      if (plan.empty()) return;
      for (const KeepStep& step : plan.steps) carry_out(step);
    }
  }

  void carry_out(const KeepStep& step) {
    auto covered = [&](const FutureSet& one) {
      return step.first <= one.set.facts.covers_from() && one.set.facts.sequence <= step.last;
    };
    if (!step.fold) {
      out_.removed +=
          std::erase_if(sets_, [&](const FutureSet& one) { return one.set.facts.sequence == step.first; });
      return;
    }
    FutureSet folded;
    double span = 0;
    std::uint64_t sum = 0, largest = 0;
    bool first = true;
    Kind kind = Kind::full;
    std::vector<SetNeed> needs;
    for (const FutureSet& one : sets_) {
      if (!covered(one)) continue;
      if (first) kind = one.set.facts.kind;
      if (first) needs = one.set.facts.needs;
      first = false;
      // Differentials all reach back to the same set.
      span = one.set.facts.kind == Kind::differential ? std::max(span, one.span_days) : span + one.span_days;
      sum += one.set.facts.totals.stored_bytes;
      largest = std::max(largest, one.set.facts.totals.stored_bytes);
      ++out_.folded;
      folded = one;
    }
    --out_.folded;
    SetFacts& facts = folded.set.facts;
    facts.folded_from = step.first;
    facts.kind = kind;
    facts.needs = needs;
    facts.needs_follow = !needs.empty();
    facts.without.clear();
    facts.set[14] = static_cast<std::uint8_t>(facts.set[14] + 1);
    double day = days_between(question_.now, facts.started);
    std::uint64_t bytes = kind == Kind::full ? question_.sizes.full_after(std::max(day, 0.0))
                                             : question_.sizes.changed_bytes(span);
    facts.totals.stored_bytes = std::min(sum, bytes);
    folded.span_days = kind == Kind::full ? 0 : span;
    // Volumes of which most is needed stay as they lie; one is written again when a quarter of it is not.
    std::uint64_t copied = std::min(facts.totals.stored_bytes, 4 * (sum - largest));
    touch(job_bytes() + copied);
    out_.written_bytes += copied;
    std::erase_if(sets_, covered);
    auto at = std::find_if(sets_.begin(), sets_.end(),
                           [&](const FutureSet& one) { return one.set.facts.sequence > step.last; });
    sets_.insert(at, std::move(folded));
  }

  // Sets that the newest point takes to be restored, itself included.
  std::size_t restore_sets() const {
    if (sets_.empty()) return 0;
    std::vector<const SetFacts*> facts;
    for (const FutureSet& one : sets_) facts.push_back(&one.set.facts);
    return SetNeeds(std::move(facts)).closure(sets_.back().set.facts).met.size() + 1;
  }

  const ForecastQuestion& question_;
  Instant now_;
  std::vector<FutureSet> sets_;
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
    out.push_back({name, own, forecast(own ? question : asked)});
  };
  add("full", Kind::full, false);
  add("differential", Kind::differential, false);
  add("incremental", Kind::incremental, false);
  add("incremental, folded for ever", Kind::incremental, true);
  bool any = std::any_of(out.begin(), out.end(), [](const Scenario& one) { return one.own; });
  if (!any) out.insert(out.begin(), {"as the job is", true, forecast(question)});
  return out;
}

}  // namespace kestrum
