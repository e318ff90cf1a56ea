// The local history as the use cases see it: useful, and never worth a missed run.
#pragma once

#include <functional>
#include <memory>
#include <vector>

#include "base/error.hpp"
#include "ledger/point_book.hpp"
#include "ledger/proof_book.hpp"

namespace kestrum {

class Home;
struct RunContext;

// Whatever the ledger refuses is remembered as trouble instead of being thrown; reading then finds nothing.
class History {
 public:
  History() = default;  // none
  // Opens it for writing, else for reading, else not at all. One that is damaged is moved aside. `note` is
  // told.
  static History open(const Home& home, const std::function<void(const std::string&)>& note);
  // The observer is told.
  static History open(const RunContext& context);
  // Of a ledger that somebody else holds (tests).
  explicit History(Ledger& ledger) : ledger_(&ledger) {}

  // The entry keeps number 0 when it could not be written.
  // `start`: Ledger::begin_run. Throws NotAskedFor.
  void begin_run(RunEntry& run, std::int64_t start = 0);
  void finish_run(const RunEntry& run, const std::vector<Problem>& problems);
  void add_problem(const RunEntry& run, const Problem& problem);
  void add_check(const Id& set, const CheckEntry& check);

  std::vector<RunEntry> runs(const std::string& job, int most);
  // One for each set, in the same order; empty ones where nothing is known.
  std::vector<SetChecks> checks(const std::vector<Id>& sets);
  SetChecks checks(const Id& set) { return checks(std::vector<Id>{set})[0]; }
  // What was read back of each set, in the same order.
  std::vector<std::vector<Proof>> proofs(const std::vector<Id>& sets);
  void add_proofs(const Id& set, const std::vector<Proof>& proofs);
  void take_back_proofs(const Id& set, const Stretch& where);
  // ProofBook::begun, begin (given a time) and end.
  std::optional<Instant> round_begun(const std::string& name);
  void set_round(const std::string& name, const std::optional<Instant>& begun);
  // Whether one of this home's runs has made that set, or it was taken over as made by one.
  bool knows_set(const Id& set);
  // PointBook. What is known already is not written again.
  void add_points(const Id& job, const Id& drive, const std::vector<KnownPoint>& points);
  void let_point_go(const Id& set, Instant when);
  std::vector<KnownPoint> known_points(const Id& job, const Id& drive);
  // Of the newest run of the job that made a point on that destination, as the job names it.
  std::optional<RunEntry> newest_point(const std::string& job, const std::string& destination);

  // The ledger, for what is not worth a run either; nullptr: none.
  Ledger* ledger() { return ledger_; }

  void set_trouble(const Error& error) {
    if (!trouble_) trouble_ = error;
  }
  // Why something could not be written or read; the first of it.
  const std::optional<Error>& trouble() const { return trouble_; }

 private:
  template <typename F>
  void attempt(F&& operation);
  std::unique_ptr<Ledger> owned_;
  Ledger* ledger_ = nullptr;
  std::optional<Error> trouble_;
};

}  // namespace kestrum
