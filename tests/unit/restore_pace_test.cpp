// What is told of a full restore, from files of which it is known what they cost.
#include "engine/restore_pace.hpp"

#include <gtest/gtest.h>

#include <random>

namespace kestrum::test {
namespace {

TEST(RestorePace, FilesAndBytesAreToldApart) {
  std::mt19937 random(3);
  RestorePace pace;
  for (int i = 0; i < 200; ++i) {
    const double size = static_cast<double>(random() % 1000000);
    const double chance = static_cast<double>(random() % 100) * 1e-7;
    pace.add(1e-4 + 2e-9 * size + chance, size);
  }
  // Many small files, and few large ones, of other sizes than those of the sample.
  EXPECT_NEAR(pace.seconds(1e6, 1e9, {}, 2), 100 + 2, 7);
  EXPECT_NEAR(pace.seconds(100, 1e12, {}, 2), 2000, 20);
}

TEST(RestorePace, UnpackingIsSharedByThreadsAndTheDriveIsNot) {
  RestorePace pace;
  pace.add(0, 0);
  const UnpackWork busy{.bytes = 1000000, .seconds = 0.5, .processor_seconds = 0.4, .waited_seconds = 0.5};
  EXPECT_NEAR(pace.seconds(1, 1e7, busy, 1), 4, 1e-6);
  EXPECT_NEAR(pace.seconds(1, 1e7, busy, 4), 1, 1e-6) << "no faster than the drive";
  const UnpackWork slow{.bytes = 1000000, .seconds = 5, .processor_seconds = 0.4, .waited_seconds = 5};
  EXPECT_NEAR(pace.seconds(1, 1e7, slow, 1), 46, 1e-6);
  EXPECT_NEAR(pace.seconds(1, 1e7, slow, 4), 46, 1e-6);
}

TEST(RestorePace, WritingAndUnpackingGoSideBySide) {
  RestorePace pace;
  for (int i = 0; i < 3; ++i) pace.add(1e-3, 0);
  const UnpackWork unpacking{.bytes = 1000, .seconds = 1e-3, .processor_seconds = 1e-3, .waited_seconds = 0};
  EXPECT_NEAR(pace.seconds(1e5, 1e8, unpacking, 1), 200, 1e-3);
  EXPECT_NEAR(pace.seconds(1e5, 1e8, unpacking, 2), 100, 1e-3);
  EXPECT_NEAR(pace.seconds(1e5, 1e8, unpacking, 4), 100, 1e-3) << "one thread writes";
}

TEST(RestorePace, LittleIsNoReasonForNonsense) {
  EXPECT_EQ(RestorePace().seconds(1000, 1e9, {}, 1), 0);
  RestorePace one;
  one.add(0.5, 100);
  EXPECT_NEAR(one.seconds(10, 1000, {}, 1), 5, 1e-6);
  RestorePace same;
  for (int i = 0; i < 3; ++i) same.add(0.5, 100);
  EXPECT_NEAR(same.seconds(10, 1e9, {}, 1), 5, 1e-6);
  RestorePace empty;
  empty.add(0.5, 0);
  EXPECT_NEAR(empty.seconds(10, 0, {}, 1), 5, 1e-6);
  // Where large ones happened to be faster.
  RestorePace odd;
  odd.add(0.2, 100);
  odd.add(0.1, 100000);
  EXPECT_NEAR(odd.seconds(10, 1e9, {}, 1), 1.5, 1e-6);
  // Where all the time seems to be that of bytes: no file takes less than none.
  RestorePace steep;
  steep.add(0, 1000);
  steep.add(1, 2000);
  EXPECT_GE(steep.seconds(1000, 0, {}, 1), 0);
}

}  // namespace
}  // namespace kestrum::test
