#include "plan/forecast.hpp"

#include <algorithm>
#include <exception>

#include "base/error.hpp"
#include "base/thread_group.hpp"
#include "calendar/local_time.hpp"
#include "plan/chain_plan.hpp"
#include "plan/fold_model.hpp"

namespace kestrum {
namespace {

double days_between(Instant a, Instant b) {
  return std::chrono::duration<double>(between(a, b)).count() / 86400;
}

// A set as the forecast goes through it.
struct Lived {
  double span = 0;  // days since its base; of a full, 0
  StoredContent content;
  std::size_t restore = 1;  // sets that going back to it takes, itself included
};

class Future {
 public:
  explicit Future(const ForecastQuestion& question) : question_(question), now_(question.now) {
    asked_.rules = question.keep;
    asked_.endless = question.renew.never();
    asked_.total = question.total;
    asked_.other_jobs = question.other_jobs;
    for (const KeptSet& set : question.sets) {
      last_ = std::max(last_, set.facts.sequence);
      all_good_ = all_good_ && set.good;
      Lived one;
      if (const SetFacts* base = base_of(set.facts))
        one.span = days_between(base->started, set.facts.started);
      double bytes = static_cast<double>(set.facts.totals.stored_bytes);
      double needed = set.facts.folded_from ? std::min(bytes, needed_by(set.facts, one.span)) : bytes;
      one.content = StoredContent(bytes, needed, item());
      append(set, std::move(one));
    }
    std::uint64_t used = question.total - std::min(question.total, question.free);
    others_ = used - std::min(used, job_bytes_);
    out_.rules = acting_rules(question.keep);
  }

  Forecast live() {
    Instant end = {question_.now.seconds + std::int64_t{question_.days} * 86400, 0};
    LocalMinute date = to_local(question_.now);
    open_day(end_of_day(date.year, date.month, date.day));
    Coming coming(question_, end);
    while (std::optional<Occurrence> one = coming.next()) {
      while (one->when > out_.days.back().ends) next_day();
      now_ = one->when;
      run(one->phrase < question_.runs.size() ? question_.runs[one->phrase].kind : std::nullopt);
    }
    while (out_.days.back().ends < end) next_day();
    close_day();
    return std::move(out_);
  }

 private:
  // The runs that are to come, in order.
  class Coming {
   public:
    Coming(const ForecastQuestion& question, Instant end)
        : question_(question), at_(question.now), end_(end) {
      scheduled_ = std::any_of(question_.runs.begin(), question_.runs.end(), [&](const Phrase& phrase) {
        return next_time(phrase, question_.now).has_value();
      });
    }
    std::optional<Occurrence> next() {
      if (place_ == some_.size()) more();
      if (place_ == some_.size() || some_[place_].when > end_) return std::nullopt;
      return some_[place_++];
    }

   private:
    void more() {
      some_.clear();
      place_ = 0;
      if (scheduled_) {
        some_ = next_times(question_.runs, at_, 64);
      } else {
        some_.push_back({{at_.seconds + 86400, 0}, question_.runs.size()});
      }
      if (!some_.empty()) at_ = some_.back().when;
    }
    const ForecastQuestion& question_;
    Instant at_, end_;
    bool scheduled_ = false;
    std::vector<Occurrence> some_;
    std::size_t place_ = 0;
  };

  std::vector<KeptSet>& sets() { return asked_.sets; }
  double item() const { return static_cast<double>(question_.sizes.item_bytes); }
  std::size_t place_of(Sequence sequence) const {
    auto at = std::lower_bound(asked_.sets.begin(), asked_.sets.end(), sequence,
                               [](const KeptSet& set, Sequence one) { return set.facts.sequence < one; });
    return static_cast<std::size_t>(at - asked_.sets.begin());
  }
  // That it is compared with, or what that was folded into; nullptr when it is gone.
  const SetFacts* base_of(const SetFacts& facts) const {
    std::size_t at = facts.base ? place_of(*facts.base) : asked_.sets.size();
    return at < asked_.sets.size() ? &asked_.sets[at].facts : nullptr;
  }
  // Bytes that a point holds by itself: all, or what has changed in so many days.
  double needed_by(const SetFacts& facts, double span) const {
    double day = std::max(days_between(question_.now, facts.started), 0.0);
    return static_cast<double>(facts.kind == Kind::full ? question_.sizes.full_after(day)
                                                        : question_.sizes.changed_bytes(span));
  }
  std::size_t restore_from(std::size_t place) const {
    const SetFacts* base = base_of(asked_.sets[place].facts);
    return base == nullptr ? 1 : lived_[static_cast<std::size_t>(place_of(base->sequence))].restore + 1;
  }

  void append(KeptSet set, Lived lived) {
    job_bytes_ += set.facts.totals.stored_bytes;
    if (!chain_.empty() && chain_.back().facts.chain != set.facts.chain) chain_.clear();
    chain_.push_back({.facts = set.facts, .damaged = !set.good});
    sets().push_back(std::move(set));
    lived_.push_back(std::move(lived));
    lived_.back().restore = restore_from(sets().size() - 1);
  }
  void erase(std::size_t from, std::size_t to) {
    for (std::size_t i = from; i < to; ++i) {
      const SetFacts& facts = sets()[i].facts;
      job_bytes_ -= facts.totals.stored_bytes;
      if (facts.chain == chain_.back().facts.chain)
        std::erase_if(chain_, [&](const ChainSet& one) { return one.facts.sequence == facts.sequence; });
    }
    auto cut = [&](auto& list) {
      list.erase(list.begin() + static_cast<std::ptrdiff_t>(from),
                 list.begin() + static_cast<std::ptrdiff_t>(to));
    };
    cut(lived_);
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
    constexpr std::size_t few = 5000;
    if (unplanned_ > 0 && sets().size() < few) prune(0);
    ForecastDay& day = out_.days.back();
    day.job_bytes = job_bytes_;
    day.points = sets().size();
    day.restore_sets = lived_.empty() ? 0 : lived_.back().restore;
    if (out_.runs > 0) out_.most_restore_sets = std::max(out_.most_restore_sets, day.restore_sets);
  }
  void next_day() {
    close_day();
    LocalMinute date = to_local({out_.days.back().ends.seconds + 3600 * 12, 0});
    open_day(end_of_day(date.year, date.month, date.day));
  }

  std::uint64_t free() const { return question_.total - std::min(question_.total, others_ + job_bytes_); }
  std::uint64_t reserve() const { return fold_reserve(question_.keep, asked_.endless, job_bytes_); }
  bool fits(const KeptSet& set, std::uint64_t freed) const {
    return room_for_run(out_.rules, job_bytes_, question_.total, free(), freed, reserve()) >=
           static_cast<std::int64_t>(set.facts.totals.stored_bytes);
  }

  // The set that a run makes, with room made for it as a run does: where a full set does not fit, the chain
  // goes on. Nothing when none fits.
  std::optional<KeptSet> set_that_fits(std::optional<Kind> asked, double& span) {
    const std::uint64_t before = job_bytes_;
    for (bool full_fits : {true, false}) {
      KeptSet next = next_set(asked, full_fits, span);
      auto freed = [&] { return before - std::min(before, job_bytes_); };
      if (!fits(next, freed())) {
        prune(next.facts.totals.stored_bytes);
        next = next_set(asked, full_fits, span);  // what it builds on may have been folded
      }
      if (fits(next, freed())) return next;
      if (next.facts.kind != Kind::full || chain_.empty()) break;
    }
    return std::nullopt;
  }

  void run(std::optional<Kind> asked) {
    ForecastDay& day = out_.days.back();
    ++day.runs;
    double span = 0;
    std::optional<KeptSet> next = set_that_fits(asked, span);
    if (!next) {
      ++day.failed;
      if (!out_.full_on) out_.full_on = now_;
      return;
    }
    ++out_.runs;
    ++last_;
    const std::uint64_t bytes = next->facts.totals.stored_bytes;
    if (next->facts.kind == Kind::full) ++out_.fulls;
    out_.written_bytes += bytes;
    append(std::move(*next), {span, StoredContent(static_cast<double>(bytes), item())});
    touch(job_bytes_);
    // Of many points one run takes hardly any away: looking at all of them each time would make the effort
    // grow with the square of their number. The last run of a day looks in any case.
    if (++unplanned_ > sets().size() / 50) prune(0);
  }

  // `span`: days since its base; of a full, 0. How many days of change a set holds is what its folding
  // depends on.
  KeptSet next_set(std::optional<Kind> asked, bool full_fits, double& span) {
    KindDecision decision = decide_kind({question_.kind, question_.renew, full_fits}, chain_,
                                        ProtectionChange::none, full_fits ? asked : std::nullopt, now_);
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
    facts.offset_seconds = local_offset_seconds(now_);
    span = 0;
    if (const SetFacts* base = base_of(facts)) {
      facts.needs = {{base->sequence, base->set}};
      span = days_between(base->started, now_);
    }
    facts.totals.stored_bytes = static_cast<std::uint64_t>(needed_by(facts, span));
    return next;
  }

  void prune(std::uint64_t make_room) {
    unplanned_ = 0;
    asked_.fold_yield = 1000;
    asked_.may_fold = true;
    for (std::size_t round = sets().size() + 2; round > 0; --round) {
      asked_.now = now_;
      asked_.free = free();
      asked_.reserve = reserve();
      asked_.make_room = make_room;
      KeepPlan plan =
          measured(plan_keep(asked_), asked_, [this](const KeepPlan& one) { return frees_by_folding(one); });
      for (const BrokenPromise& broken : plan.broken) {
        bool known = std::any_of(out_.broken.begin(), out_.broken.end(),
                                 [&](const Promise& one) { return one.same_rule(broken.promise); });
        if (!known) out_.broken.push_back(broken.promise);
      }
      if (plan.empty()) return;
      for (const KeepStep& step : plan.steps) {
        if (asked_.may_fold || !step.fold) carry_out(step);
      }
      // Where everything is good and fits, one round does it: what is gone makes nothing else unwanted.
      if (all_good_ && plan.excess == 0) return;
    }
  }

  // A range of sets as one.
  struct Fold {
    std::size_t begin = 0, end = 0;
    SetFacts facts;
    Lived lived;
    std::uint64_t before = 0, takes = 0;  // bytes
    bool possible = false;                // there is room for it
  };
  FoldSpace fold_room() const {
    std::int64_t within = room_left(out_.rules, job_bytes_, question_.total, free(), reserve());
    double left = static_cast<double>(free());
    return {std::clamp(static_cast<double>(within), 0.0, left), left,
            static_cast<double>(
                fold_ahead(job_bytes_, room_left(out_.rules, job_bytes_, question_.total, free())))};
  }
  Fold fold(const KeepStep& step) const {
    Fold out;
    out.begin = place_of(step.first);
    out.end = place_of(step.last) + 1;
    std::vector<const StoredContent*> contents;
    for (std::size_t i = out.begin; i < out.end; ++i) {
      const SetFacts& one = asked_.sets[i].facts;
      // Differentials all reach back to the same set.
      double span = lived_[i].span;
      out.lived.span =
          one.kind == Kind::differential ? std::max(out.lived.span, span) : out.lived.span + span;
      out.before += one.totals.stored_bytes;
      contents.push_back(&lived_[i].content);
    }
    const SetFacts& first = asked_.sets[out.begin].facts;
    out.facts = asked_.sets[out.end - 1].facts;
    out.facts.folded_from = step.first;
    out.facts.kind = first.kind;
    out.facts.base = first.base;
    out.facts.needs = first.needs;
    out.facts.needs_follow = !first.needs.empty();
    out.facts.without.clear();
    out.facts.set[14] = static_cast<std::uint8_t>(out.facts.set[14] + 1);
    if (first.kind == Kind::full) out.lived.span = 0;
    double takes = 0;
    out.possible =
        out.lived.content.fold(contents, needed_by(out.facts, out.lived.span), fold_room(), item(), takes);
    out.takes = static_cast<std::uint64_t>(takes);
    out.facts.totals.stored_bytes =
        std::min(out.before, static_cast<std::uint64_t>(out.lived.content.stored()));
    return out;
  }
  std::uint64_t frees_by_folding(const KeepPlan& plan) const {
    std::uint64_t frees = 0;
    for (const KeepStep& step : plan.steps) {
      if (!step.fold) continue;
      Fold one = fold(step);
      if (one.possible) frees += one.before - one.facts.totals.stored_bytes;
    }
    return frees;
  }

  void carry_out(const KeepStep& step) {
    if (!step.fold) {
      std::size_t at = place_of(step.first);
      erase(at, at + 1);
      ++out_.removed;
      return;
    }
    Fold one = fold(step);
    asked_.may_fold = one.possible;
    if (!one.possible) return;
    out_.folded += one.end - one.begin - 1;
    touch(job_bytes_ + one.takes);
    out_.written_bytes += one.takes;
    erase(one.begin, one.end - 1);
    job_bytes_ += one.facts.totals.stored_bytes - sets()[one.begin].facts.totals.stored_bytes;
    for (ChainSet& set : chain_) {
      if (set.facts.sequence == one.facts.sequence) set.facts = one.facts;
    }
    sets()[one.begin].facts = std::move(one.facts);
    lived_[one.begin] = std::move(one.lived);
    for (std::size_t i = one.begin; i < sets().size(); ++i) lived_[i].restore = restore_from(i);
  }

  const ForecastQuestion& question_;
  Instant now_;
  KeepQuestion asked_;           // its sets are the list that is worked on
  std::vector<ChainSet> chain_;  // those of the newest chain, as choosing a kind sees them
  std::vector<Lived> lived_;     // of each set
  std::uint64_t job_bytes_ = 0;
  std::size_t unplanned_ = 0;  // runs since the keep rules were carried out
  bool all_good_ = true;
  Sequence last_ = 0;
  std::uint64_t others_ = 0;  // used on the drive by anything else
  Forecast out_;
};

}  // namespace

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
