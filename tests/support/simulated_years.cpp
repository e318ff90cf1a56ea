#include "support/simulated_years.hpp"

#include <memory>

#include "support/simulated_job.hpp"

namespace kestrum::test {
namespace {

// A drive and who uses it, for a year.
class Year {
 public:
  Year(std::uint64_t seed, YearsResult& out) : random_(seed), out_(out) {
    const std::uint64_t jobs = pick(4) == 0 ? 2 : 1;
    std::uint64_t fulls = 0;
    for (std::uint64_t i = 0; i < jobs; ++i) {
      jobs_.push_back({std::make_unique<SimulatedJob>(seed * 2 + i, drive_, out), now_});
      jobs_.back().job->alone = jobs == 1;
      fulls += jobs_.back().job->full_bytes();
    }
    drive_.total = static_cast<std::uint64_t>(static_cast<double>(fulls) * (1.5 + unit() * 20));
    others_ = pick(3) == 0;
    if (pick(4) == 0) drive_.by_others = drive_.total / 10 * pick(5);
    late_ = pick(4) == 0;
    clock_ = pick(4) == 0;
    away_ = pick(4) == 0;
  }

  std::string live(unsigned runs) {
    for (unsigned run = 0; run < runs; ++run) {
      Guest& next = jobs_[jobs_.size() > 1 && jobs_[1].due < jobs_[0].due ? 1 : 0];
      next.due.seconds += next.job->seconds_to_next();
      if (away_ && pick(80) == 0) absence();
      now_ = std::max(now_, next.due);
      next.due = now_;
      if (now_.seconds > begin_ + 366 * 86400) return {};
      happenings();
      std::string failure = next.job->run({now_.seconds + wrong_by_, 0}, now_);
      if (!failure.empty())
        return failure + " in run " + std::to_string(run + 1) + ": " + next.job->describe();
    }
    return {};
  }

 private:
  static constexpr std::int64_t begin_ = 1800000000;
  unsigned pick(unsigned below) { return static_cast<unsigned>(random_() % below); }
  double unit() { return static_cast<double>(random_() % 10000) / 10000; }

  // The machine is off, or the drive away.
  void absence() {
    const std::int64_t seconds = std::int64_t{86400} * (10 + pick(80));
    for (Guest& guest : jobs_) guest.due.seconds += seconds;
    now_.seconds += seconds;
  }

  void happenings() {
    if (others_ && pick(15) == 0) others();
    if (late_ && pick(10) == 0) drive_.frees_late = !drive_.frees_late;
    // What somebody held open is closed at some time.
    if (drive_.withheld > 0 && pick(3) == 0) drive_.withheld = 0;
    if (!clock_) return;
    if (wrong_by_ == 0 && pick(60) == 0) {
      wrong_by_ =
          std::int64_t{86400} * (pick(4) == 0 ? -std::int64_t{pick(400)} : std::int64_t{30 + pick(1000)});
      wrong_runs_ = 1 + pick(3);
    } else if (wrong_by_ != 0 && wrong_runs_-- == 0) {
      wrong_by_ = 0;
    }
  }

  // Films come and go.
  void others() {
    if (pick(2) == 0) {
      drive_.by_others = static_cast<std::uint64_t>(static_cast<double>(drive_.by_others) * unit());
    } else {
      drive_.by_others += static_cast<std::uint64_t>(static_cast<double>(drive_.free()) * unit());
    }
  }

  struct Guest {
    std::unique_ptr<SimulatedJob> job;
    Instant due;
  };
  std::mt19937_64 random_;
  YearsResult& out_;
  SimulatedDrive drive_;
  Instant now_{begin_, 0};
  std::vector<Guest> jobs_;
  bool others_ = false, late_ = false, clock_ = false, away_ = false;
  std::int64_t wrong_by_ = 0;  // seconds by which the clock is ahead
  unsigned wrong_runs_ = 0;
};

}  // namespace

YearsResult simulate_years(std::uint64_t first_seed, std::uint64_t years, unsigned most_runs) {
  YearsResult out;
  for (std::uint64_t seed = first_seed; seed < first_seed + years && out.failure.empty(); ++seed) {
    ++out.years;
    Year year(seed, out);
    std::string failure = year.live(most_runs);
    if (!failure.empty()) out.failure = "seed " + std::to_string(seed) + ": " + failure;
  }
  return out;
}

}  // namespace kestrum::test
