#include "base/pace.hpp"

#include <gtest/gtest.h>

#include <thread>

#include "base/error.hpp"
#include "calendar/local_time.hpp"
#include "engine/holding_back.hpp"
#include "rules/speed_limit.hpp"

namespace kestrum {
namespace {

TEST(SpeedLimit, IsReadWithItsHours) {
  EXPECT_EQ(parse_speed_limit("20 MiB/s").bytes_a_second, 20u << 20);
  EXPECT_EQ(parse_speed_limit("5 MiB/s weekdays 08:00 to 18:00").text(), "5.0 MiB/s weekdays 08:00 to 18:00");
  for (const char* wrong :
       {"", "20", "20 MiB", "20 MiB/h", "20 MiB/shed", "fast/s", "0 B/s", "1 B/s", "20 MiB/s at noon"})
    EXPECT_THROW(parse_speed_limit(wrong), Error) << wrong;
}

TEST(SpeedLimit, HoursWinAndOfSeveralTheLowest) {
  set_local_zone("UTC");
  const std::vector<SpeedLimit> limits{parse_speed_limit("20 MiB/s"), parse_speed_limit("30 MiB/s"),
                                       parse_speed_limit("40 MiB/s weekdays 08:00 to 18:00"),
                                       parse_speed_limit("5 MiB/s 12:00 to 14:00")};
  const Instant monday{1803859200, 0};  // 2027-03-01 00:00
  const auto at = [&](int hour) { return speed_at(limits, {monday.seconds + hour * 3600, 0}) >> 20; };
  EXPECT_EQ(at(3), 20u);
  EXPECT_EQ(at(9), 40u);
  EXPECT_EQ(at(13), 5u);
  EXPECT_EQ(at(18), 20u);
  EXPECT_EQ(speed_at({}, monday), 0u);
}

TEST(Pace, AStopIsHeardWhileItWaits) {
  RunControl control;
  Pace pace([] { return 1000; }, control);
  std::thread other([&] {
    std::this_thread::sleep_for(std::chrono::milliseconds(100));
    control.stop();
  });
  const auto begun = std::chrono::steady_clock::now();
  pace.pass(1u << 20);
  EXPECT_LT(std::chrono::steady_clock::now() - begun, std::chrono::seconds(5));
  other.join();
}

TEST(HoldingBack, LoadIsThatOfAllProcessors) {
  EXPECT_FALSE(is_loaded("2.90 1.00 0.50 1/200 4711\n", 4));
  EXPECT_TRUE(is_loaded("3.10 1.00 0.50 1/200 4711\n", 4));
  EXPECT_FALSE(is_loaded("", 4));
}

}  // namespace
}  // namespace kestrum
