// Local time at clock changes, and the phrases for WHEN.
#include <gtest/gtest.h>

#include <cstdlib>

#include "calendar/local_time.hpp"

namespace kestrum::test {
namespace {

// Set before anything of this binary runs.
[[maybe_unused]] const bool zone_is_set = set_local_zone("Europe/London");

class InZone : public testing::Test {
 protected:
  static Instant utc(const char* text) { return *parse_utc(text); }
  static std::string moment(const char* text, const char* now = "2027-03-14T10:00:00Z") {
    std::optional<PointWish> wish = parse_point_wish(text, utc(now));
    if (!wish) return "none";
    if (wish->by == PointWish::By::latest) return "latest";
    if (wish->by == PointWish::By::number) return "#" + std::to_string(wish->number);
    return utc_text({wish->moment.seconds, 0});
  }
};

TEST_F(InZone, PhrasesForWhen) {
  struct Case {
    const char* text;
    const char* expected;
  };
  const Case cases[] = {
      {"latest", "latest"},
      {"12", "#12"},
      {" 7 ", "#7"},
      {"2027-03-14", "2027-03-14T23:59:59Z"},
      {"2027-07-01", "2027-07-01T22:59:59Z"},
      {"2027-03-14 09:30", "2027-03-14T09:30:59Z"},
      {"2027-07-01 09:30", "2027-07-01T08:30:59Z"},
      {"2027-07-01T09:30:15", "2027-07-01T08:30:15Z"},
      {"yesterday", "2027-03-13T23:59:59Z"},
      {"today", "2027-03-14T23:59:59Z"},
      {"3 days ago", "2027-03-11T23:59:59Z"},
      {"1 day ago", "2027-03-13T23:59:59Z"},
      {"2 weeks ago", "2027-02-28T23:59:59Z"},
      {"1 month ago", "2027-02-14T23:59:59Z"},
      {"1 year ago", "2026-03-14T23:59:59Z"},
      {"6 hours ago", "2027-03-14T04:00:00Z"},
      {"90 minutes ago", "2027-03-14T08:30:00Z"},
      // Clocks go forward at 01:00 on 28 March and back at 02:00 on 31 October.
      {"2027-03-28 01:30", "2027-03-28T01:00:00Z"},
      {"2027-10-31 01:30", "2027-10-31T01:30:59Z"},
      {"2027-03-28", "2027-03-28T22:59:59Z"},
      {"2027-10-31", "2027-10-31T23:59:59Z"},
      {"2028-02-29", "2028-02-29T23:59:59Z"},
      {"2027-02-29", "none"},
      {"2027-13-01", "none"},
      {"2027-03-14 25:00", "none"},
      {"someday", "none"},
      {"", "none"},
      {"3 fortnights ago", "none"},
      {"-1", "none"},
      {"9999999999", "none"},
  };
  for (const Case& one : cases) EXPECT_EQ(moment(one.text), one.expected) << one.text;
  EXPECT_EQ(moment("1 month ago", "2027-03-31T10:00:00Z"), "2027-02-28T23:59:59Z");
}

TEST_F(InZone, LocalTexts) {
  EXPECT_EQ(local_text(utc("2027-07-01T08:30:00Z"), true), "2027-07-01 09:30 BST");
  EXPECT_EQ(local_text(utc("2027-01-01T08:30:00Z"), true), "2027-01-01 08:30 GMT");
  EXPECT_EQ(local_offset_seconds(utc("2027-07-01T08:30:00Z")), 3600);
  // Far beyond 2037, where zone tables end and their rule goes on.
  EXPECT_EQ(local_text(utc("2099-07-01T08:30:00Z"), true), "2099-07-01 09:30 BST");
  EXPECT_EQ(local_text_seconds(utc("1969-12-31T23:00:05Z")).substr(0, 10), "1970-01-01");
}

TEST_F(InZone, GapsAndRepeats) {
  EXPECT_EQ(utc_text(from_local_latest({2027, 3, 28, 1, 30, 0})), "2027-03-28T01:00:00Z");
  EXPECT_EQ(utc_text(from_local_earliest({2027, 10, 31, 1, 30, 0})), "2027-10-31T00:30:00Z");
  EXPECT_EQ(utc_text(from_local_latest({2027, 10, 31, 1, 30, 0})), "2027-10-31T01:30:00Z");
}

}  // namespace
}  // namespace kestrum::test
