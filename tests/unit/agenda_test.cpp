// What is due and what to do about it: decided by values alone.
#include "plan/agenda.hpp"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/error.hpp"
#include "calendar/local_time.hpp"
#include "ledger/due_book.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

using What = StartDecision::What;
using testing::HasSubstr;

Instant at(const char* utc) {
  return *parse_utc(utc);
}

std::string short_text(Instant when) {
  return utc_text(when).substr(0, 16);
}

// Zones are of the process: what these tests mean is UTC, but for those at clock changes.
class Agenda : public testing::Test {
 protected:
  Agenda() { set_local_zone("UTC"); }
  ~Agenda() override { set_local_zone("Europe/London"); }
  std::vector<CountedTime> times(const std::vector<std::string>& phrases, const char* since) {
    std::vector<CountedTime> out;
    for (const std::string& phrase : phrases) out.push_back({parse_phrase(phrase), at(since)});
    return out;
  }
};

TEST_F(Agenda, ATimeIsNeverMadeUpForBackwards) {
  const auto daily = times({"daily at 12:30"}, "2027-03-03T12:00:00Z");
  EXPECT_EQ(due_between(daily, {}, at("2027-03-03T12:29:59Z"), 10).moments.size(), 0u);
  EXPECT_EQ(due_between(daily, {}, at("2027-03-05T13:00:00Z"), 10).moments.size(), 3u);
  // Of two times the new one counts from later on, though the other has come since.
  auto both = times({"daily at 12:30"}, "2027-03-01T00:00:00Z");
  both.push_back({parse_phrase("daily at 08:00"), at("2027-03-03T09:00:00Z")});
  const DueMoments due = due_between(both, at("2027-03-02T12:30:00Z"), at("2027-03-04T08:00:00Z"), 10);
  ASSERT_EQ(due.moments.size(), 2u);
  EXPECT_EQ(short_text(due.moments[0].when), "2027-03-03T12:30");
  EXPECT_EQ(short_text(due.moments[1].when), "2027-03-04T08:00");
}

TEST_F(Agenda, OneMomentOfTwoPhrasesIsOne) {
  const auto both = times({"daily at 12:30", "mondays at 12:30 full"}, "2027-03-01T00:00:00Z");
  const DueMoments due = due_between(both, {}, at("2027-03-02T12:30:00Z"), 10);
  ASSERT_EQ(due.moments.size(), 2u);
  EXPECT_EQ(due.moments[0].kind, Kind::full);
  EXPECT_THAT(due.moments[0].phrase, HasSubstr(";"));
  EXPECT_FALSE(due.moments[1].kind);
}

TEST_F(Agenda, OfVeryManyTheLastAreToldOneByOne) {
  const auto often = times({"every 5 minutes"}, "2027-03-01T00:00:00Z");
  const DueMoments due = due_between(often, {}, at("2027-03-02T00:00:00Z"), 100);
  EXPECT_EQ(due.moments.size(), 100u);
  EXPECT_EQ(due.before, 188u);
  EXPECT_EQ(short_text(due.before_first), "2027-03-01T00:05");
  EXPECT_EQ(short_text(due.before_last), "2027-03-01T15:40");
  EXPECT_EQ(short_text(due.moments[0].when), "2027-03-01T15:45");
}

// Each moment of two years is told once, however the looks are spread, also where clocks change.
TEST_F(Agenda, LooksMissNothingAndTellNothingTwice) {
  set_local_zone("Europe/Berlin");
  const auto some =
      times({"daily at 02:30", "every 6 hours", "first sunday at 03:00 full"}, "2027-01-01T00:00:00Z");
  const Instant end = at("2029-01-01T00:00:00Z");
  const std::size_t all = due_between(some, {}, end, 100000).moments.size();
  std::size_t told = 0;
  std::optional<Instant> known;
  std::uint64_t step = 1;
  for (Instant now = at("2027-01-01T00:00:00Z"); now < end;) {
    step = step * 6364136223846793005u + 1442695040888963407u;
    now.seconds = std::min(end.seconds, now.seconds + static_cast<std::int64_t>(step >> 45));
    const DueMoments due = due_between(some, known, now, 100000);
    told += due.moments.size();
    if (!due.moments.empty()) known = due.moments.back().when;
  }
  EXPECT_EQ(told, all);
  EXPECT_GT(all, 3600u);
}

TEST_F(Agenda, Decisions) {
  const Instant now = at("2027-03-03T12:30:00Z");
  const StartQuestion due{.now = now, .waiting = {{now, false}}};
  EXPECT_EQ(decide_start({.now = now}).what, What::nothing);
  EXPECT_EQ(decide_start(due).what, What::start);

  StartQuestion question = due;
  question.running = true;
  EXPECT_EQ(decide_start(question).reason, DueReason::busy);

  question = due;
  question.pause = Pause{at("2027-03-03T13:00:00Z")};
  EXPECT_EQ(decide_start(question).what, What::wait);
  EXPECT_EQ(decide_start(question).look_again, question.pause->until);
  question.catch_up = false;
  EXPECT_EQ(decide_start(question).what, What::give_up);
  question.pause = Pause{at("2027-03-03T12:00:00Z")};
  EXPECT_EQ(decide_start(question).what, What::start) << "the pause is over";

  question = due;
  question.settled = at("2027-03-03T12:33:00Z");
  EXPECT_EQ(decide_start(question).what, What::start) << "what comes in time does not wait";
  question.waiting[0].late = true;
  EXPECT_EQ(decide_start(question).reason, DueReason::settling);
  question.catch_up = false;
  EXPECT_EQ(decide_start(question).what, What::give_up);
  question.catch_up = true;
  question.now = question.settled;
  EXPECT_EQ(decide_start(question).what, What::start);

  question = due;
  question.window.only_between = {parse_open_hours("22:00 to 06:00")};
  EXPECT_EQ(decide_start(question).reason, DueReason::window);
  EXPECT_EQ(short_text(*decide_start(question).look_again), "2027-03-03T22:00");
  question.catch_up = false;
  EXPECT_EQ(decide_start(question).what, What::wait) << "a window is not a miss";
}

TEST_F(Agenda, WarnsAQuarterBeforeAtMostADay) {
  EXPECT_EQ(short_text(warn_from(at("2027-03-01T00:00:00Z"), *parse_span("8 hours"))), "2027-03-01T06:00");
  EXPECT_EQ(short_text(warn_from(at("2027-03-01T00:00:00Z"), *parse_span("30 days"))), "2027-03-30T00:00");
}

TEST_F(Agenda, WindowsOpenWhenTheySay) {
  struct Case {
    std::vector<std::string> between, not_on;
    const char* when;
    const char* opens;
  };
  const Case cases[] = {
      {{}, {}, "2027-03-03T12:30:00Z", "2027-03-03T12:30"},
      {{"22:00 to 06:00"}, {}, "2027-03-03T12:30:00Z", "2027-03-03T22:00"},
      {{"22:00 to 06:00"}, {}, "2027-03-03T05:59:00Z", "2027-03-03T05:59"},
      {{"22:00 to 06:00"}, {}, "2027-03-03T06:00:00Z", "2027-03-03T22:00"},
      // Friday night's hours go on into Saturday, and Saturday has none of its own.
      {{"weekdays 18:00 to 07:30"}, {}, "2027-03-06T07:00:00Z", "2027-03-06T07:00"},
      {{"weekdays 18:00 to 07:30"}, {}, "2027-03-06T08:00:00Z", "2027-03-08T18:00"},
      {{"saturday and sunday 00:00 to 24:00", "weekdays 20:00 to 24:00"},
       {},
       "2027-03-05T12:00:00Z",
       "2027-03-05T20:00"},
      {{"saturday and sunday 00:00 to 24:00", "weekdays 20:00 to 24:00"},
       {},
       "2027-03-06T03:00:00Z",
       "2027-03-06T03:00"},
      {{}, {"2027-12-24 to 2028-01-02"}, "2027-12-24T00:00:00Z", "2028-01-03T00:00"},
      {{}, {"12-24 to 01-02"}, "2031-12-31T10:00:00Z", "2032-01-03T00:00"},
      {{"22:00 to 06:00"}, {"2027-03-04"}, "2027-03-03T23:59:00Z", "2027-03-03T23:59"},
      {{"22:00 to 06:00"}, {"2027-03-04"}, "2027-03-04T01:00:00Z", "2027-03-05T00:00"},
      {{"00:00 to 24:00"}, {"02-29"}, "2028-02-29T10:00:00Z", "2028-03-01T00:00"},
      {{}, {"01-01 to 12-31"}, "2027-03-03T00:00:00Z", "never"},
  };
  for (const Case& one : cases) {
    RunWindow window;
    for (const std::string& text : one.between) window.only_between.push_back(parse_open_hours(text));
    for (const std::string& text : one.not_on) window.not_on.push_back(parse_closed_days(text));
    const std::optional<Instant> opens = window.opens(at(one.when));
    EXPECT_EQ(opens ? short_text(*opens) : "never", one.opens) << one.when;
    for (const OpenHours& hours : window.only_between)
      EXPECT_EQ(parse_open_hours(hours.text()).text(), hours.text());
    for (const ClosedDays& days : window.not_on)
      EXPECT_EQ(parse_closed_days(days.text()).text(), days.text());
  }
}

// The hour that a clock change skips or repeats does not keep a window shut or open for a day.
TEST_F(Agenda, WindowsAtClockChanges) {
  set_local_zone("Europe/Berlin");
  RunWindow window;
  window.only_between = {parse_open_hours("02:30 to 03:30")};
  // 2027-03-28: 02:00 becomes 03:00. The window begins at the change.
  EXPECT_EQ(short_text(*window.opens(at("2027-03-28T00:30:00Z"))), "2027-03-28T01:00");
  // 2027-10-31: 03:00 becomes 02:00.
  EXPECT_EQ(short_text(*window.opens(at("2027-10-30T23:00:00Z"))), "2027-10-31T00:30");
}

TEST_F(Agenda, BadWindowsAreRefusedWithTheReason) {
  struct Case {
    const char* text;
    const char* says;
  };
  for (const Case& one : std::vector<Case>{{"06:00 to 06:00", "never open"},
                                           {"22:00", "a time, 'to' and a time"},
                                           {"25:00 to 06:00", "no time of day"},
                                           {"22:00 to 6", "no time of day"},
                                           {"", "wanted"},
                                           {"24:00 to 06:00", "no time of day"}}) {
    try {
      parse_open_hours(one.text);
      ADD_FAILURE() << one.text;
    } catch (const Error& error) {
      EXPECT_THAT(error.what(), HasSubstr(one.says));
      EXPECT_FALSE(error.hint().empty());
    }
  }
  for (const char* text :
       {"2027-02-30", "13-01", "2027-03-05 to 2027-03-01", "12-24 to 2028-01-02", "christmas", ""})
    EXPECT_THROW(parse_closed_days(text), Error) << text;
}

class Book : public Agenda {
 protected:
  DueLine line(const char* when) {
    return {.job = "wardens", .when = at(when), .first = at(when), .phrase = "daily at 12:30"};
  }
  TempFolder folder_;
  Ledger ledger_{folder_ / "ledger.db"};
  DueBook book_{ledger_};
};

TEST_F(Book, TimesCountFromWhenTheyAreFirstSeen) {
  const Instant first = at("2027-03-01T10:00:00Z"), later = at("2027-03-02T10:00:00Z");
  book_.count_times("wardens", {"a", "b"}, first);
  const std::vector<TimeSince> times = book_.count_times("wardens", {"b", "c"}, later);
  EXPECT_EQ(times[0].since, first);
  EXPECT_EQ(times[1].since, later);
  // Taken back and given again, it counts anew.
  book_.count_times("wardens", {}, later);
  EXPECT_EQ(book_.count_times("wardens", {"b"}, at("2027-03-03T10:00:00Z"))[0].since,
            at("2027-03-03T10:00:00Z"));
  // What a clock far ahead wrote does not count.
  EXPECT_EQ(book_.count_times("wardens", {"b"}, at("2026-03-03T10:00:00Z"))[0].since,
            at("2026-03-03T10:00:00Z"));
}

TEST_F(Book, AMomentHasOneLine) {
  const Instant now = at("2027-03-01T12:31:00Z");
  DueLine missed = line("2027-03-01T12:30:00Z");
  missed.fate = DueFate::missed;
  book_.add({missed}, now);
  book_.add({line("2027-03-01T12:30:00Z")}, now);
  ASSERT_EQ(book_.lines("wardens", 10, now).size(), 1u);
  EXPECT_EQ(book_.lines("wardens", 10, now)[0].fate, DueFate::missed);
  EXPECT_EQ(book_.newest_line("wardens", now), at("2027-03-01T12:30:00Z"));
  // A line that a clock a year ahead wrote is as if it were not there.
  const Instant before = at("2026-03-01T12:31:00Z");
  EXPECT_FALSE(book_.newest_line("wardens", at("2027-03-01T11:00:00Z")));
  DueLine early = line("2026-03-01T12:30:00Z");
  book_.add({early}, now);
  EXPECT_FALSE(book_.newest_line("wardens", before));
  book_.add({early}, before);
  EXPECT_EQ(book_.newest_line("wardens", before), early.when);
}

TEST_F(Book, AStartIsTakenOnce) {
  const Instant now = at("2027-03-01T12:31:00Z");
  book_.add({line("2027-02-28T12:30:00Z"), line("2027-03-01T12:30:00Z")}, now);
  const std::int64_t start = book_.prepare_start(book_.waiting("wardens"));
  RunEntry run;
  run.job = "wardens";
  ledger_.begin_run(run, start);
  const std::vector<DueLine> lines = book_.of_run(run.id);
  ASSERT_EQ(lines.size(), 2u);
  EXPECT_FALSE(lines[0].own);
  EXPECT_TRUE(lines[1].own);
  EXPECT_TRUE(book_.waiting().empty());
  RunEntry twin;
  twin.job = "wardens";
  EXPECT_THROW(ledger_.begin_run(twin, start), NotAskedFor);
  EXPECT_EQ(ledger_.runs("wardens", 10).size(), 1u) << "nothing of it is kept";
}

TEST_F(Book, AStartThatWasGivenUpIsNotTaken) {
  book_.add({line("2027-03-01T12:30:00Z")}, at("2027-03-01T12:31:00Z"));
  const std::int64_t start = book_.prepare_start(book_.waiting());
  book_.give_up_all_starts();
  RunEntry late;
  late.job = "wardens";
  EXPECT_THROW(ledger_.begin_run(late, start), NotAskedFor);
  EXPECT_EQ(book_.waiting().size(), 1u);
}

TEST_F(Book, GoesAlongWithTheJobsName) {
  book_.add({line("2027-03-01T12:30:00Z")}, at("2027-03-01T12:31:00Z"));
  book_.count_times("wardens", {"daily at 12:30"}, at("2027-03-01T00:00:00Z"));
  ledger_.rename_job("wardens", "office");
  EXPECT_EQ(book_.waiting("office").size(), 1u);
  EXPECT_EQ(book_.known_times("office").size(), 1u);
  EXPECT_TRUE(book_.waiting("wardens").empty());
}

}  // namespace
}  // namespace kestrum::test
