// Phrases for when a job runs: what is taken, what is refused with the nearest that means something, and the
// moments they mean, at clock changes and over twenty years.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <sstream>

#include "base/error.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "calendar/run_window.hpp"
#include "support/program.hpp"

namespace kestrum::test {
namespace {

using testing::HasSubstr;

// The machine's zone for one test.
class Zone {
 public:
  explicit Zone(const char* name) { set_local_zone(name); }
  ~Zone() { set_local_zone("Europe/London"); }
  Zone(const Zone&) = delete;
  Zone& operator=(const Zone&) = delete;
};

std::string coming(const std::string& phrase, const char* after, std::size_t count) {
  std::string out;
  for (const Occurrence& one : next_times({parse_phrase(phrase)}, *parse_utc(after), count))
    out += (out.empty() ? "" : " ") + utc_text(one.when).substr(0, 16);
  return out;
}

TEST(Phrases, AreTakenAndSaidAgain) {
  struct Case {
    const char* text;
    const char* said;
  };
  const Case cases[] = {
      {"by hand", "by hand"},
      {"  By   Hand ", "by hand"},
      {"once at 2027-03-14 09:30", "once at 2027-03-14 09:30"},
      {"once 2027-03-14 09:30 full", "once at 2027-03-14 09:30 full"},
      {"once on 2028-02-29 at 23:59", "once at 2028-02-29 23:59"},
      {"hourly", "hourly at minute 0"},
      {"hourly at :15", "hourly at minute 15"},
      {"hourly at minute 45 incremental", "hourly at minute 45 incremental"},
      {"every hour", "hourly at minute 0"},
      {"every 20 minutes", "every 20 minutes"},
      {"every 90 minutes", "every 90 minutes"},
      {"every 6 hours", "every 6 hours"},
      {"every 1 hour", "every 60 minutes"},
      {"daily at 12:30", "daily at 12:30"},
      {"Daily at 7:05", "daily at 07:05"},
      {"every day at 00:00", "daily at 00:00"},
      {"weekdays at 20:30", "weekdays at 20:30"},
      {"weekends at 03:00 differential", "weekends at 03:00 differential"},
      {"daily at 8pm", "daily at 20:00"},
      {"daily at 8 pm", "daily at 20:00"},
      {"daily at 12am", "daily at 00:00"},
      {"daily at 12:15 PM full", "daily at 12:15 full"},
      {"daily at 20.30", "daily at 20:30"},
      {"daily at 2030", "daily at 20:30"},
      {"daily 20:30", "daily at 20:30"},
      {"daily at noon", "daily at 12:00"},
      {"every day 930", "daily at 09:30"},
      {"every 30 min", "every 30 minutes"},
      {"every 30min", "every 30 minutes"},
      {"every 4h", "every 4 hours"},
      {"every half hour", "every 30 minutes"},
      {"every half an hour", "every 30 minutes"},
      {"twice a day", "every 12 hours"},
      {"3 times a day", "every 8 hours"},
      {"weekly at 18:00", "mondays at 18:00"},
      {"weekly on friday 18:00 full", "fridays at 18:00 full"},
      {"full every sunday at 3am", "sundays at 03:00 full"},
      {"mo-fr 20:30", "weekdays at 20:30"},
      {"Mon-Fri at 20:30", "weekdays at 20:30"},
      {"monday to friday at 20:30", "weekdays at 20:30"},
      {"fri - mon at 8:00", "monday, friday, saturday and sunday at 08:00"},
      {"thurs at 18:00", "thursdays at 18:00"},
      {"tues and thurs 18:00", "tuesday and thursday at 18:00"},
      {"sa su at 18:00", "weekends at 18:00"},
      {"1st of month at 3:00", "monthly on the 1st at 03:00"},
      {"15th of the month at 3:00", "monthly on the 15th at 03:00"},
      {"monday at 18:00", "mondays at 18:00"},
      {"mondays at 18:00", "mondays at 18:00"},
      {"every tuesday at 18:00", "tuesdays at 18:00"},
      {"mon, wed and fri at 18:00", "monday, wednesday and friday at 18:00"},
      {"friday monday at 18:00", "monday and friday at 18:00"},
      {"on saturdays and sundays at 04:00", "weekends at 04:00"},
      {"monday tuesday wednesday thursday friday at 8:00", "weekdays at 08:00"},
      {"monthly on the 15th at 03:00", "monthly on the 15th at 03:00"},
      {"monthly on the 1st at 03:00", "monthly on the 1st at 03:00"},
      {"monthly on day 22 at 03:00", "monthly on the 22nd at 03:00"},
      {"monthly on the 3rd at 03:00", "monthly on the 3rd at 03:00"},
      {"monthly on the 31st at 03:00", "monthly on the 31st at 03:00"},
      {"monthly on the last day at 22:00 full", "monthly on the last day at 22:00 full"},
      {"last day of the month at 22:00", "monthly on the last day at 22:00"},
      {"first sunday at 03:00 full", "first sunday at 03:00 full"},
      {"the second tuesday of every month at 03:00", "second tuesday at 03:00"},
      {"monthly on the last friday at 22:00", "last friday at 22:00"},
      {"2nd wed at 10:00", "second wednesday at 10:00"},
      {"fifth monday at 10:00", "fifth monday at 10:00"},
      {"every 3 days from 2027-03-14 at 09:30", "every 3 days from 2027-03-14 at 09:30"},
      {"every 2 weeks from 2027-03-14 at 09:30", "every 2 weeks from 2027-03-14 at 09:30"},
      {"on change", "on change"},
      {"on change, at least every 2 hours", "on change, at least every 2 hours"},
      {"on change at least every 45 minutes", "on change, at least every 45 minutes"},
      {"rrule FREQ=MONTHLY;BYDAY=2TU from 2027-03-09 09:30",
       "rrule FREQ=MONTHLY;BYDAY=2TU from 2027-03-09 09:30"},
      {"RRULE:FREQ=DAILY;INTERVAL=2 from 2027-03-09 09:30 full",
       "rrule FREQ=DAILY;INTERVAL=2 from 2027-03-09 09:30 full"},
  };
  for (const Case& one : cases) {
    EXPECT_EQ(parse_phrase(one.text).text(), one.said) << one.text;
    EXPECT_EQ(parse_phrase(one.said).text(), one.said);
  }
}

TEST(Phrases, ThatCannotBeAreRefusedWithTheNearestThatCan) {
  struct Case {
    const char* text;
    const char* why;
    const char* hint;
  };
  const Case cases[] = {
      {"", "says nothing", "daily at 12:30"},
      {"whenever", "no day", "write it like"},
      {"dayly at 12:30", "'dayly' is no word", "\"daily at 12:30\""},
      {"wekdays at 20:30", "'wekdays'", "\"weekdays at 20:30\""},
      {"daily", "at what time", "\"daily at 12:30\""},
      {"daily at 24:00", "there is no 24:00", "\"daily at 23:00\""},
      {"daily at 12:75", "there is no 12:75", "\"daily at 12:59\""},
      {"daily at dusk", "'dusk' is no time", "\"daily at 12:30\""},
      {"daily at 13pm", "'13pm' is no time", "\"daily at 12:30\""},
      {"monday evening at 20:30 full", "'evening' is no day", "\"mondays at 20:30 full\""},
      {"mondey evening at 20:30", "'evening' is no day", "\"mondays at 20:30\""},
      {"sometimes at 8pm full", "no day", "\"daily at 20:00 full\""},
      {"wekly at 18:00", "'wekly' is no word", "\"mondays at 18:00\""},
      {"twice a week", "in what time", "\"every 12 hours\""},
      {"daily at 18", "no time", "\"daily at 18:00\""},
      {"daily at 9:5", "'9:5' is no time", "\"daily at 12:30\""},
      {"monday at", "at what time", "\"mondays at 12:30\""},
      {"hourly at minute 60", "no minute 60", "\"hourly at minute 59\""},
      {"hourly at minute x", "'x' is no minute", "hourly"},
      {"every 0 minutes", "closer together", "\"every 5 minutes\""},
      {"every 2 minutes", "closer together", "\"every 5 minutes\""},
      {"every 2000 minutes", "in days", "\"every 24 hours\""},
      {"every 5 fortnights", "'fortnights' is neither", "every"},
      {"every 0 days from 2027-03-14 at 09:30", "is never", "\"every 1 days from 2027-03-14 at 09:30\""},
      {"every 3 days at 09:30", "from which day on", "from 2027-03-14"},
      {"every 3 days from 2027-02-30 at 09:30", "there is no 2027-02-30", "from 2027-02-28 at 09:30"},
      {"every 3 days from 14.3.2027 at 09:30", "is no date", "2027-03-14"},
      {"once at 2027-13-01 10:00", "there is no 2027-13-01", "once at 2027-12-01 10:00"},
      {"once at tomorrow 10:00", "'tomorrow' is no date", "2027-03-14"},
      {"monthly on the 32nd at 03:00", "no month has such a day", "\"monthly on the last day at 03:00\""},
      {"monthly on the 0th at 03:00", "no month has such a day", "last day"},
      {"monthly at 03:00", "on which day", "\"monthly on the 1st at 03:00\""},
      {"6th sunday at 03:00", "no month has that many", "\"last sunday at 03:00\""},
      {"on change, at least every 1 minute", "closer together", "\"on change, at least every 5 minutes\""},
      {"on change at midnight", "says nothing there", "\"on change\""},
      {"daily at 12:30 fully", "", "\"daily at 12:30 full\""},
      {"by hand and daily at 12:30", "says nothing there", "\"by hand\""},
      {"rrule FREQ=SOMETIMES from 2027-03-09 09:30", "no rule of RFC 5545", "3.3.10"},
      {"rrule FREQ=DAILY", "needs its first moment", "from 2027-03-09"},
      {"rrule FREQ=SECONDLY from 2027-03-09 09:30", "minutes or seconds", "5545"},
      {"rrule FREQ=HOURLY;BYMONTH=2;BYMONTHDAY=30 from 2027-03-09 09:30", "no BY parts", "5545"},
      {"rrule FREQ=YEARLY;BYMONTH=2;BYMONTHDAY=30 from 2027-03-09 09:30", "never happens", "5545"},
      {"rrule FREQ=DAILY;BYDAY=MO;BYSETPOS=1 from 2027-03-09 09:30", "BYSETPOS", "5545"},
      {"rrule FREQ=DAILY;UNTIL=20270401T000000Z from 2027-03-09 09:30", "in UTC", "5545"},
      {"rrule FREQ=DAILY from 2027-02-29 09:30", "there is no 2027-02-29", "2027-02-28"},
  };
  for (const Case& one : cases) {
    try {
      FAIL() << one.text << " was taken as " << parse_phrase(one.text).text();
    } catch (const Error& error) {
      EXPECT_EQ(error.kind(), ErrorKind::usage) << one.text;
      EXPECT_THAT(std::string(error.what()), HasSubstr(one.why)) << one.text;
      EXPECT_THAT(error.hint(), HasSubstr(one.hint)) << one.text << ": " << error.what();
    }
  }
}

TEST(Phrases, AtClockChangesInThreeZones) {
  struct Case {
    const char* zone;
    const char* phrase;
    const char* after;
    std::size_t count;
    const char* expected;  // in UTC
  };
  const Case cases[] = {
      // London: forward at 01:00 UTC on 2027-03-28, back at 01:00 UTC on 2027-10-31.
      {"Europe/London", "daily at 01:30", "2027-03-26T12:00:00Z", 3,
       "2027-03-27T01:30 2027-03-28T01:00 2027-03-29T00:30"},
      {"Europe/London", "daily at 01:30", "2027-10-29T12:00:00Z", 3,
       "2027-10-30T00:30 2027-10-31T00:30 2027-11-01T01:30"},
      {"Europe/London", "hourly at minute 30", "2027-10-30T23:00:00Z", 4,
       "2027-10-30T23:30 2027-10-31T00:30 2027-10-31T01:30 2027-10-31T02:30"},
      {"Europe/London", "hourly", "2027-03-27T23:30:00Z", 3,
       "2027-03-28T00:00 2027-03-28T01:00 2027-03-28T02:00"},
      {"Europe/London", "every 6 hours", "2027-03-28T00:00:00Z", 5,
       "2027-03-28T06:00 2027-03-28T12:00 2027-03-28T18:00 2027-03-28T23:00 2027-03-29T05:00"},
      {"Europe/London", "sundays at 01:30", "2027-03-21T12:00:00Z", 2, "2027-03-28T01:00 2027-04-04T00:30"},
      {"Europe/London", "last sunday at 01:15", "2027-03-01T00:00:00Z", 2,
       "2027-03-28T01:00 2027-04-25T00:15"},
      {"Europe/London", "once at 2027-03-28 01:30", "2027-01-01T00:00:00Z", 2, "2027-03-28T01:00"},
      {"Europe/London", "once at 2027-03-28 01:30", "2027-03-28T01:00:00Z", 1, ""},
      {"Europe/London", "monthly on the 31st at 12:00", "2027-01-31T12:00:00Z", 2,
       "2027-03-31T11:00 2027-05-31T11:00"},
      {"Europe/London", "monthly on the last day at 12:00", "2028-02-01T00:00:00Z", 2,
       "2028-02-29T12:00 2028-03-31T11:00"},
      {"Europe/London", "fifth monday at 12:00", "2027-01-01T00:00:00Z", 2,
       "2027-03-29T11:00 2027-05-31T11:00"},
      {"Europe/London", "by hand", "2027-01-01T00:00:00Z", 2, ""},
      {"Europe/London", "on change, at least every 2 hours", "2027-01-01T00:00:00Z", 2, ""},
      {"Europe/London", "rrule FREQ=DAILY;COUNT=3 from 2027-03-27 01:30", "2027-03-27T02:00:00Z", 5,
       "2027-03-28T01:00 2027-03-29T00:30"},
      // New York: forward at 07:00 UTC on 2027-03-14, back at 06:00 UTC on 2027-11-07.
      {"America/New_York", "daily at 02:30", "2027-03-12T12:00:00Z", 3,
       "2027-03-13T07:30 2027-03-14T07:00 2027-03-15T06:30"},
      {"America/New_York", "daily at 01:30", "2027-11-06T12:00:00Z", 2, "2027-11-07T05:30 2027-11-08T06:30"},
      {"America/New_York", "every 8 hours", "2027-11-07T03:59:00Z", 5,
       "2027-11-07T04:00 2027-11-07T12:00 2027-11-07T20:00 2027-11-08T04:00 2027-11-08T05:00"},
      {"America/New_York", "weekdays at 20:30", "2027-03-12T00:00:00Z", 3,
       "2027-03-12T01:30 2027-03-13T01:30 2027-03-16T00:30"},
      {"America/New_York", "every 2 days from 2027-03-13 at 02:30", "2027-03-01T00:00:00Z", 3,
       "2027-03-13T07:30 2027-03-15T06:30 2027-03-17T06:30"},
      // Lord Howe: half an hour; forward at 15:30 UTC on 2027-10-02, back at 15:00 UTC on 2027-04-03.
      {"Australia/Lord_Howe", "hourly at minute 15", "2027-04-03T13:00:00Z", 4,
       "2027-04-03T13:15 2027-04-03T14:15 2027-04-03T15:45 2027-04-03T16:45"},
      {"Australia/Lord_Howe", "hourly at minute 45", "2027-04-03T13:50:00Z", 3,
       "2027-04-03T14:45 2027-04-03T15:15 2027-04-03T16:15"},
      {"Australia/Lord_Howe", "daily at 02:15", "2027-10-01T20:00:00Z", 3,
       "2027-10-02T15:30 2027-10-03T15:15 2027-10-04T15:15"},
      {"Australia/Lord_Howe", "every 2 weeks from 2027-09-19 at 02:15", "2027-09-01T00:00:00Z", 3,
       "2027-09-18T15:45 2027-10-02T15:30 2027-10-16T15:15"},
  };
  for (const Case& one : cases) {
    Zone zone(one.zone);
    EXPECT_EQ(coming(one.phrase, one.after, one.count), one.expected) << one.zone << ": " << one.phrase;
  }
}

TEST(Phrases, SeveralTogetherComeInOrder) {
  Zone zone("Europe/London");
  std::vector<Phrase> phrases{parse_phrase("weekdays at 12:30"), parse_phrase("first sunday at 03:00 full"),
                              parse_phrase("by hand")};
  std::vector<Occurrence> found = next_times(phrases, *parse_utc("2027-03-05T12:30:00Z"), 3);
  ASSERT_EQ(found.size(), 3U);
  EXPECT_EQ(utc_text(found[0].when).substr(0, 16), "2027-03-07T03:00");
  EXPECT_EQ(found[0].phrase, 1U);
  EXPECT_EQ(utc_text(found[1].when).substr(0, 16), "2027-03-08T12:30");
}

// Twenty years of every phrase that RFC 5545 can say, against another implementation.
TEST(Phrases, AgreeWithAnIndependentImplementation) {
  struct Pair {
    const char* phrase;
    const char* rule;
    const char* hour;
  };
  const Pair pairs[] = {
      {"daily at 02:30", "FREQ=DAILY", "02:30"},
      {"weekdays at 01:30", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "01:30"},
      {"weekends at 02:15", "FREQ=WEEKLY;BYDAY=SA,SU", "02:15"},
      {"monday, wednesday and sunday at 01:59", "FREQ=WEEKLY;BYDAY=MO,WE,SU", "01:59"},
      {"monthly on the 1st at 00:00", "FREQ=MONTHLY;BYMONTHDAY=1", "00:00"},
      {"monthly on the 31st at 23:59", "FREQ=MONTHLY;BYMONTHDAY=31", "23:59"},
      {"monthly on the last day at 02:30", "FREQ=MONTHLY;BYMONTHDAY=-1", "02:30"},
      {"first sunday at 02:30", "FREQ=MONTHLY;BYDAY=1SU", "02:30"},
      {"second sunday at 02:30", "FREQ=MONTHLY;BYDAY=2SU", "02:30"},
      {"last sunday at 01:30", "FREQ=MONTHLY;BYDAY=-1SU", "01:30"},
      {"fifth saturday at 12:00", "FREQ=MONTHLY;BYDAY=5SA", "12:00"},
      {"every 3 days from 2026-12-31 at 02:10", "FREQ=DAILY;INTERVAL=3", "02:10"},
      {"every 2 weeks from 2026-12-31 at 02:10", "FREQ=WEEKLY;INTERVAL=2", "02:10"},
      {"rrule FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1 from 2026-12-31 02:30",
       "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "02:30"},
      {"rrule FREQ=YEARLY;BYMONTH=3,11;BYDAY=1SU,-1SU from 2026-12-31 02:30",
       "FREQ=YEARLY;BYMONTH=3,11;BYDAY=1SU,-1SU", "02:30"},
      {"rrule FREQ=WEEKLY;INTERVAL=3;BYDAY=TU,SU;WKST=SU from 2026-12-31 01:30",
       "FREQ=WEEKLY;INTERVAL=3;BYDAY=TU,SU;WKST=SU", "01:30"},
      {"rrule FREQ=DAILY;COUNT=500 from 2026-12-31 01:30", "FREQ=DAILY;COUNT=500", "01:30"},
      {"rrule FREQ=MONTHLY;BYMONTHDAY=13;BYDAY=FR;UNTIL=20400101T000000 from 2026-12-31 01:30",
       "FREQ=MONTHLY;BYMONTHDAY=13;BYDAY=FR;UNTIL=20400101T000000", "01:30"},
  };
  Program python("/usr/bin/python3");
  std::string questions;
  const char* zones[] = {"Europe/London", "America/New_York", "Australia/Lord_Howe"};
  for (const char* zone : zones) {
    for (const Pair& pair : pairs)
      questions +=
          std::string(zone) + "\t" + pair.rule + "\t2026-12-31T" + pair.hour + "\t2047-01-01T00:00\n";
  }
  Ran ran = python.run({std::string(KESTRUM_SOURCE) + "/tests/support/occurrences.py"}, questions);
  ASSERT_EQ(ran.exit, 0) << ran.err;
  std::istringstream answers(ran.out);
  for (const char* name : zones) {
    Zone zone(name);
    for (const Pair& pair : pairs) {
      std::string line;
      std::getline(answers, line);
      std::istringstream numbers(line);
      Phrase phrase = parse_phrase(pair.phrase);
      Instant at = from_local_earliest({2026, 12, 31, 0, 0, 0});
      at.seconds -= 1;
      std::size_t checked = 0;
      for (std::int64_t expected = 0; numbers >> expected; ++checked) {
        std::optional<Instant> next = next_time(phrase, at);
        ASSERT_TRUE(next) << name << ": " << pair.phrase << " after " << utc_text(at);
        ASSERT_EQ(next->seconds, expected) << name << ": " << pair.phrase << " after " << utc_text(at);
        at = *next;
      }
      EXPECT_GE(checked, 20U) << name << ": " << pair.phrase;
    }
  }
}

// However far ahead one asks, steps are counted from the rule's own start.
TEST(Phrases, AnHourlyRuleCountsFromItsStart) {
  ASSERT_TRUE(set_local_zone("UTC"));
  Phrase phrase = parse_phrase("rrule FREQ=HOURLY;INTERVAL=5 from 2027-03-09 09:30");
  const Instant start = *next_time(phrase, {1800000000, 0});
  EXPECT_EQ(local_text(start), "2027-03-09 09:30");
  for (std::int64_t ahead : {0, 1, 7, 24, 100, 500, 5001, 20003}) {
    std::optional<Instant> when = next_time(phrase, {start.seconds + ahead * 3600, 0});
    ASSERT_TRUE(when);
    EXPECT_EQ((when->seconds - start.seconds) % (5 * 3600), 0) << ahead;
    EXPECT_LE(when->seconds - start.seconds - ahead * 3600, 5 * 3600) << ahead;
  }
  set_local_zone("localtime");
}

TEST(Phrases, WhatIsHardlyMeantIsSaid) {
  ASSERT_TRUE(set_local_zone("UTC"));
  const Instant now{1804248000, 0};  // 2027-03-05
  auto notes = [&](std::vector<std::string> texts) {
    std::vector<Phrase> phrases;
    for (const std::string& text : texts) phrases.push_back(parse_phrase(text));
    return join(phrase_notes(phrases, now), "; ");
  };
  EXPECT_EQ(notes({"daily at 20:30", "first sunday at 03:00 full", "by hand", "on change"}), "");
  EXPECT_NE(notes({"once at 2026-03-14 09:30"}).find("is past: it starts no run"), std::string::npos);
  EXPECT_EQ(notes({"every 12 hours"}), "") << "it divides a day";
  EXPECT_NE(notes({"every 5 hours"}).find("the last step of a day is 240 minutes"), std::string::npos)
      << notes({"every 5 hours"});
  std::string same = notes({"daily at 20:30", "first sunday at 20:30 full", "hourly at minute 30"});
  EXPECT_NE(same.find("\"daily at 20:30\" and \"first sunday at 20:30 full\" come at the same minute, first "
                      "on 2027-03-07 20:30"),
            std::string::npos)
      << same;
  EXPECT_NE(same.find("\"hourly at minute 30\""), std::string::npos) << same;
  EXPECT_EQ(std::count(same.begin(), same.end(), ';'), 2) << "each pair once: " << same;
  set_local_zone("localtime");
}

}  // namespace
}  // namespace kestrum::test
