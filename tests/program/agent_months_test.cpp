// Months and years through the real agent, under a running clock: with outages, drives that come and go,
// kills of agent and run, edits, and clocks that jump. What must hold whatever happens: every due moment has
// exactly one line, none ran twice, and what a job may be without a good point is not exceeded without a
// warning before.
#include <algorithm>
#include <cstdlib>
#include <iostream>
#include <random>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "calendar/phrase.hpp"
#include "calendar/span.hpp"
#include "ledger/due_book.hpp"
#include "program/agent_desk.hpp"
#include "support/extent.hpp"

namespace kestrum::test {
namespace {

constexpr std::int64_t hour = 3600, day = 24 * hour;

// What was said of a job's times, and when.
struct Said {
  Instant since;
  std::vector<std::string> phrases;
};

class AgentMonths : public AgentTest {
 protected:
  AgentMonths() {
    set_local_zone("UTC");
    clock_.set("2027-03-01T00:00:00Z", 0);
    // Its drive's folder is away now and then.
    std::filesystem::create_directories(moths_drive());
    define("wardens", desk_.drive(), {"daily at 12:30", "daily at 20:30"}, {"--when-warn-after", "2 days"});
    define("moths", moths_drive(), {"every 6 hours"}, {"--when-warn-after", "1 day"});
    define("tracks", desk_.folder / "tracks-drive", {"mondays at 09:00 full", "weekdays at 18:00"},
           {"--when-if-missed", "skip", "--when-only-between", "06:00 to 23:00"});
  }
  ~AgentMonths() override { set_local_zone("Europe/London"); }
  std::string moths_drive() const { return desk_.folder / "moths-drive"; }

  void define(const std::string& name, const std::string& drive, const std::vector<std::string>& phrases,
              std::vector<std::string> more) {
    std::filesystem::create_directories(drive);
    std::vector<std::string> words{"job",
                                   "define",
                                   name,
                                   "--what-folders",
                                   desk_.source(),
                                   "--where-destinations",
                                   drive,
                                   "--same-disk",
                                   "--protect-encryption",
                                   "none",
                                   "--check-after-run",
                                   "nothing"};
    for (const std::string& phrase : phrases) words.insert(words.end(), {"--when-runs", phrase});
    words.insert(words.end(), more.begin(), more.end());
    Ran defined = desk_(words);
    ASSERT_EQ(defined.exit, 0) << defined.err;
    said_[name].push_back({clock_.now(), phrases});
    // From then on its drive is known, and another one in its place is not taken for it.
    ASSERT_EQ(desk_({"run", name}).exit, 0);
  }

  bool idle() {
    const Json all = status()["jobs"];
    return std::none_of(all.begin(), all.end(), [](const Json& one) {
      return one["going"] != nullptr || one["waits-for"] == "none";
    });
  }
  // The clock goes on for so long, fast between the times and slowly at them.
  void pass(std::int64_t seconds) {
    const Instant end{clock_.now().seconds + seconds, 0};
    while (clock_.now() < end) {
      std::optional<Instant> next;
      for (const auto& [name, all] : said_) {
        for (const std::string& phrase : all.back().phrases) {
          const std::optional<Instant> when = next_time(parse_phrase(phrase), clock_.now());
          if (when && (!next || *when < *next)) next = when;
        }
      }
      const Instant there = next && *next < end ? *next : end;
      clock_.run_to(utc_text({there.seconds - 1, 0}), 200000);
      clock_.set(there, 1);
      if (agent_ > 0) comes([&] { return idle(); });
    }
  }
  void go_away(bool away) {
    std::error_code code;
    if (away) {
      std::filesystem::rename(moths_drive(), moths_drive() + "-away", code);
    } else {
      std::filesystem::rename(moths_drive() + "-away", moths_drive(), code);
    }
  }
  void change_file(std::mt19937_64& random) {
    write_file(desk_.source() + "/log-" + std::to_string(random() % 20), std::to_string(random()));
  }
  void one_event(std::mt19937_64& random);
  void check();
  void check_warnings(Ledger& ledger, const std::string& job, const Span& limit);

  std::map<std::string, std::vector<Said>> said_;
  std::map<std::string, int> counts_;
  bool jumped_ = false;
  std::vector<std::pair<Instant, Instant>> outages_;
};

void AgentMonths::one_event(std::mt19937_64& random) {
  const auto happens = [&](const char* what) { ++counts_[what]; };
  switch (random() % 8) {
    case 0:  // off for hours or days
      happens("outages");
      end_agent(random() % 2 == 0 ? SIGTERM : SIGKILL);
      outages_.emplace_back(clock_.now(), Instant{});
      pass(static_cast<std::int64_t>(random() % (3 * day)));
      outages_.back().second = clock_.now();
      begin_agent();
      // It has looked around before the clock goes on.
      std::this_thread::sleep_for(std::chrono::milliseconds(300));
      break;
    case 1:
      happens("kills of the agent");
      end_agent(SIGKILL);
      begin_agent();
      break;
    case 2: {
      happens("drives away");
      go_away(true);
      pass(static_cast<std::int64_t>(6 * hour + random() % (2 * day)));
      if (random() % 2 == 0) {
        // Another one in its place.
        happens("swapped drives");
        std::filesystem::create_directories(moths_drive() + "/somebody");
        pass(8 * hour);
        std::filesystem::remove_all(moths_drive());
      }
      go_away(false);
      break;
    }
    case 3: {
      happens("kills of a run");
      // Due in a second; it is killed as soon as it is seen.
      const std::optional<Instant> next = next_time(parse_phrase("daily at 12:30"), clock_.now());
      pass(next->seconds - clock_.now().seconds - 2);
      clock_.go(1);
      const std::string killing =
          "pkill -9 -P " + std::to_string(agent_) + " -f 'agent-run.*wardens' > /dev/null";
      comes([&] { return std::system(killing.c_str()) == 0; }, 3);
      comes([&] { return idle(); });
      break;
    }
    case 4: {
      happens("edits");
      const std::string phrase = "daily at " + std::to_string(10 + random() % 10) + ":15";
      Ran edit = desk_({"job", "edit", "wardens", "--when-runs", phrase, "--when-runs", "daily at 20:30"});
      ASSERT_EQ(edit.exit, 0) << edit.err;
      said_["wardens"].push_back({clock_.now(), {phrase, "daily at 20:30"}});
      // The agent has read it before the clock goes on.
      std::this_thread::sleep_for(std::chrono::milliseconds(300));
      break;
    }
    case 5: {
      happens("clock jumps");
      jumped_ = true;
      const Instant right = clock_.now();
      clock_.set(Instant{right.seconds + static_cast<std::int64_t>(30 * day + random() % (300 * day)), 0}, 1);
      std::this_thread::sleep_for(std::chrono::milliseconds(300));
      comes([&] { return idle(); });
      clock_.set(right, 1);
      break;
    }
    case 6:
      happens("pauses");
      EXPECT_EQ(desk_({"pause", "moths", "--for", "9 hours"}).exit, 0);
      break;
    default:
      happens("quiet days");
      break;
  }
}

// Whoever may be without a good point for so long is warned before that is over; where nobody was there to do
// it, by the next agent.
void AgentMonths::check_warnings(Ledger& ledger, const std::string& job, const Span& limit) {
  std::vector<Instant> points{said_[job][0].since};
  std::vector<RunEntry> runs = ledger.runs(job, 1000000);
  // What a wrong clock has dated later than a later run does not count.
  Instant earliest = clock_.now();
  for (const RunEntry& run : runs) {
    if (run.sequence && run.started <= earliest) points.push_back(earliest = run.started);
  }
  std::reverse(points.begin() + 1, points.end());
  const std::vector<AgentEvent> events = DueBook(ledger).events(1000000);
  for (std::size_t i = 1; i < points.size(); ++i) {
    const Instant end = after(points[i - 1], limit);
    if (points[i].seconds <= end.seconds + 300) continue;
    ++counts_["limits exceeded"];
    Instant by = end;
    for (const auto& [from, to] : outages_) {
      if (from <= end && end <= to) by = to;
    }
    const bool warned = std::any_of(events.begin(), events.end(), [&](const AgentEvent& event) {
      return event.what == "warned" && event.job == job && event.when >= points[i - 1] &&
             event.when.seconds <= by.seconds + 300;
    });
    // Where the next point came before anybody was there to warn, nobody had to.
    EXPECT_TRUE(warned || points[i].seconds <= by.seconds + 600)
        << job << ": no warning between " << utc_text(points[i - 1]) << " and " << utc_text(by)
        << ", next point " << utc_text(points[i]);
  }
}

void AgentMonths::check() {
  const Instant now = clock_.now();
  Ledger book(ledger());
  DueBook due(book);
  std::size_t moments = 0, waiting = 0;
  for (const auto& [name, all] : said_) {
    // What should have a line: each moment of what was said at that time.
    std::set<std::int64_t> wanted;
    std::map<std::string, Instant> since;
    for (std::size_t i = 0; i < all.size(); ++i) {
      const Instant until = i + 1 < all.size() ? all[i + 1].since : now;
      for (const std::string& phrase : all[i].phrases) {
        for (std::optional<Instant> at = next_time(parse_phrase(phrase), all[i].since); at && *at <= until;
             at = next_time(parse_phrase(phrase), *at))
          wanted.insert(at->seconds);
      }
    }
    std::set<std::int64_t> found;
    std::map<std::int64_t, int> own;
    for (const DueLine& line : due.lines(name, 1000000, now)) {
      EXPECT_TRUE(found.insert(line.when.seconds).second) << name << " twice " << utc_text(line.when);
      EXPECT_EQ(line.moments, 1u);
      if (line.fate == DueFate::waiting) {
        ++waiting;
        std::cout << "still waiting: " << name << " " << utc_text(line.when) << "\n";
      }
      if (line.fate == DueFate::ran && line.own && line.run) ++own[*line.run];
      ++moments;
    }
    for (const auto& [run, count] : own) EXPECT_EQ(count, 1) << "a run of two moments";
    for (const std::int64_t moment : wanted)
      EXPECT_TRUE(found.contains(moment)) << name << " lacks " << utc_text({moment, 0});
    for (const std::int64_t moment : found)
      EXPECT_TRUE(wanted.contains(moment)) << name << " has " << utc_text({moment, 0});
    // No moment had two runs: runs that began by themselves are never more than the moments.
    EXPECT_LE(own.size(), wanted.size() + (jumped_ ? counts_["clock jumps"] : 0));
  }
  EXPECT_EQ(waiting, 0u);
  check_warnings(book, "wardens", *parse_span("2 days"));
  check_warnings(book, "moths", *parse_span("1 day"));
  std::cout << "due moments " << moments << ", still waiting " << waiting << ", runs "
            << book.runs("", 1000000).size();
  for (const auto& [what, count] : counts_) std::cout << ", " << what << " " << count;
  std::cout << "\n";
}

TEST_F(AgentMonths, OneLineForEachMomentWhateverHappens) {
  const std::int64_t days = extent("KESTRUM_AGENT_DAYS", 30);
  std::mt19937_64 random(extent("KESTRUM_AGENT_SEED", 15));
  begin_agent();
  const Instant end{clock_.now().seconds + days * day, 0};
  while (clock_.now() < end) {
    change_file(random);
    one_event(random);
    pass(static_cast<std::int64_t>(12 * hour + random() % (2 * day)));
  }
  // What waits is made up for once all is well.
  go_away(false);
  pass(day);
  if (!idle()) std::cout << "not idle at the end: " << status()["jobs"].dump() << "\n";
  end_agent();
  check();
  for (const char* job : {"wardens", "moths", "tracks"}) {
    Ran verify = desk_({"verify", job, "--depth", "all"});
    EXPECT_EQ(verify.exit, 0) << job << verify.out << verify.err;
  }
}

}  // namespace
}  // namespace kestrum::test
