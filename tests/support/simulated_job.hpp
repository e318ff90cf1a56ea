// A job whose sets are values: sizes by a simple model, every decision by the real functions. It lives on a
// drive that others use too.
#pragma once

#include <map>
#include <random>

#include "plan/chain_plan.hpp"
#include "plan/keep_plan.hpp"
#include "support/simulated_years.hpp"

namespace kestrum::test {

// Bytes. What was removed is free at once, or after a while.
struct SimulatedDrive {
  std::uint64_t total = 0, by_jobs = 0, by_others = 0;
  std::uint64_t withheld = 0;  // was removed, and has not come free
  bool frees_late = false;     // what is removed now
  std::uint64_t free() const {
    const std::uint64_t used = by_jobs + by_others + withheld;
    return used > total ? 0 : total - used;
  }
  void takes(std::uint64_t bytes) { by_jobs += bytes; }
  void lets_go(std::uint64_t bytes) {
    by_jobs -= bytes;
    if (frees_late) withheld += bytes;
  }
};

class SimulatedJob {
 public:
  // Schedule, kind, renewal, keep rules, sizes and whether sets get damaged: by the seed.
  SimulatedJob(std::uint64_t seed, SimulatedDrive& drive, YearsResult& out);
  std::uint64_t full_bytes() const { return full_; }
  bool alone = true;  // no other job has sets on the drive

  std::int64_t seconds_to_next();
  // One run and what goes after it. `now`: by the machine's clock; `truly`: in fact. The first thing that is
  // wrong, or nothing.
  std::string run(Instant now, Instant truly);
  std::string describe() const;

 private:
  unsigned pick(unsigned below) { return static_cast<unsigned>(random_() % below); }
  double unit() { return static_cast<double>(random_() % 10000) / 10000; }
  void choose_renewal();
  void choose_keeping();
  KeptSet next_set(Instant now);
  void say_something();
  void spoil(std::size_t which);
  KeepQuestion question(Instant now, std::uint64_t make_room) const;
  bool fits(const KeptSet& set) const;
  bool could_fit(const KeptSet& set) const;
  std::string prune(Instant now, std::uint64_t make_room);
  std::string check(const KeepQuestion& asked, const KeepPlan& plan);
  std::string too_young(const KeepQuestion& asked, const KeepPlan& plan) const;
  bool carry_out(const KeepStep& step);
  bool fold(const KeepStep& step);
  void remove(Sequence sequence);
  std::string complete() const;
  std::string check_after(const KeepQuestion& asked) const;

  std::mt19937_64 random_;
  SimulatedDrive& drive_;
  YearsResult& out_;
  ChainRules rules_;
  KeepRules keep_;
  bool endless_ = false;
  bool people_ = false;  // say something of points
  bool follow_ = false;  // needs name the first set only
  std::uint64_t full_ = 0;
  double share_ = 0, damage_ = 0, gap_ = 0;
  std::vector<KeptSet> sets_;
  Sequence sequence_ = 0;
  std::uint64_t freed_ = 0;              // by this run
  bool may_fold_ = true, late_ = false;  // in this pruning
  std::map<Sequence, Instant> truly_made_;
  Instant truly_;
};

}  // namespace kestrum::test
