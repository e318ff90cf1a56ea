#include "engine/history.hpp"

#include <set>

#include "engine/run_context.hpp"

namespace kestrum {

template <typename F>
void History::attempt(F&& operation) {
  if (ledger_ == nullptr) return;
  try {
    operation();
  } catch (const Error& error) {
    if (!trouble_) trouble_ = error;
  }
}

History History::open(const RunContext& context) {
  return open(context.home, [&](const std::string& text) { context.observer.note(text); });
}

History History::open(const Home& home, const std::function<void(const std::string&)>& note) {
  History history;
  try {
    history.owned_ = Ledger::open_or_renew(home.ledger_path(), note);
  } catch (const Error& error) {
    history.trouble_ = error;
    try {
      history.owned_ = std::make_unique<Ledger>(home.ledger_file(), Ledger::Access::reading);
    } catch (const Error&) {
      // There is none, or none that reads: nothing is known then.
    }
  }
  history.ledger_ = history.owned_.get();
  return history;
}

void History::begin_run(RunEntry& run, std::int64_t start) {
  attempt([&] { ledger_->begin_run(run, start); });
}

void History::finish_run(const RunEntry& run, const std::vector<Problem>& problems) {
  if (run.number != 0) attempt([&] { ledger_->finish_run(run, problems); });
}

void History::add_problem(const RunEntry& run, const Problem& problem) {
  if (run.number != 0) attempt([&] { ledger_->add_problem(run.id, problem); });
}

void History::add_check(const Id& set, const CheckEntry& check) {
  attempt([&] { ledger_->add_check(set, check); });
}

std::vector<RunEntry> History::runs(const std::string& job, int most) {
  std::vector<RunEntry> runs;
  attempt([&] { runs = ledger_->runs(job, most); });
  return runs;
}

std::vector<SetChecks> History::checks(const std::vector<Id>& sets) {
  std::vector<SetChecks> checks;
  attempt([&] { checks = ledger_->checks(sets); });
  checks.resize(sets.size());
  return checks;
}

void History::add_points(const Id& job, const Id& drive, const std::vector<KnownPoint>& points) {
  std::set<Id> known;
  for (const KnownPoint& point : known_points(job, drive)) known.insert(point.set);
  std::vector<KnownPoint> fresh;
  for (const KnownPoint& point : points) {
    if (!known.contains(point.set)) fresh.push_back(point);
  }
  attempt([&] { PointBook(*ledger_).add(job, drive, fresh); });
}

void History::let_point_go(const Id& set, Instant when) {
  attempt([&] { PointBook(*ledger_).let_go(set, when); });
}

std::vector<KnownPoint> History::known_points(const Id& job, const Id& drive) {
  std::vector<KnownPoint> points;
  attempt([&] { points = PointBook(*ledger_).known(job, drive); });
  return points;
}

bool History::knows_set(const Id& set) {
  bool known = false;
  attempt([&] { known = ledger_->knows_set(set); });
  return known;
}

std::vector<std::vector<Proof>> History::proofs(const std::vector<Id>& sets) {
  std::vector<std::vector<Proof>> proofs;
  attempt([&] { proofs = ProofBook(*ledger_).proofs(sets); });
  proofs.resize(sets.size());
  return proofs;
}

void History::add_proofs(const Id& set, const std::vector<Proof>& proofs) {
  if (!proofs.empty()) attempt([&] { ProofBook(*ledger_).add(set, proofs); });
}

void History::take_back_proofs(const Id& set, const Stretch& where) {
  attempt([&] { ProofBook(*ledger_).take_back(set, where); });
}

std::optional<Instant> History::round_begun(const std::string& name) {
  std::optional<Instant> begun;
  attempt([&] { begun = ProofBook(*ledger_).begun(name); });
  return begun;
}

void History::set_round(const std::string& name, const std::optional<Instant>& begun) {
  attempt([&] {
    ProofBook book(*ledger_);
    begun ? book.begin(name, *begun) : book.end(name);
  });
}

std::optional<RunEntry> History::newest_point(const std::string& job, const std::string& destination) {
  std::optional<RunEntry> newest;
  attempt([&] { newest = ledger_->newest_point(job, destination); });
  return newest;
}

}  // namespace kestrum
