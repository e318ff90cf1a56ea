// A block device as a source: one image, restored as a file, or written back where the person insists.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

#include "program/desk.hpp"
#include "support/mounts.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;

TEST(Devices, AnImageComesBackAsAFileAndOverTheDevice) {
  if (geteuid() != 0) GTEST_SKIP() << "loop devices need root";
  Desk desk;
  std::string disk = (desk.folder / "stick.img");
  std::string content(5 << 20, '\0');
  for (std::size_t i = 0; i < 3 << 20; ++i) content[i + (1 << 20)] = static_cast<char>(i * 7 + (i >> 9));
  write_file(disk, content);
  LoopDevice loop(disk);
  if (loop.path().empty()) GTEST_SKIP() << "no loop device is to be had here";
  // Named by a link, as under /dev/disk/by-label: the name stays with the device.
  std::string name = (desk.folder / "by-label-ringing");
  fs::create_symlink(loop.path(), name);
  ASSERT_EQ(desk({"job", "define", "stick", "--what-folders", name, "--same-disk", "--where-destinations",
                  desk.drive(), "--protect-encryption", "none"})
                .exit,
            0);
  Ran ran = desk({"run", "stick"});
  EXPECT_EQ(ran.exit, 0) << ran.err;
  EXPECT_THAT(ran.out, HasSubstr("1 file in"));
  EXPECT_THAT(desk({"browse", "stick", desk.folder.path()}).out,
              HasSubstr("by-label-ringing  (image of the device)"));

  EXPECT_EQ(desk({"restore", "stick", name, "--to", (desk.folder / "out")}).exit, 0);
  EXPECT_TRUE(read_file((desk.folder / "out/by-label-ringing")) == content);
  EXPECT_TRUE(fs::is_regular_file((desk.folder / "out/by-label-ringing")));

  // Nothing but an insisting person writes to a device.
  FILE* device = fopen(loop.path().c_str(), "r+");
  ASSERT_NE(device, nullptr);
  std::string damage(64 << 10, 'x');
  fseek(device, 4200000, SEEK_SET);
  EXPECT_EQ(fwrite(damage.data(), 1, damage.size(), device), damage.size());
  fclose(device);
  Ran refused = desk({"restore", "stick", name, "--in-place"});
  EXPECT_EQ(refused.exit, 1);
  EXPECT_THAT(refused.out, HasSubstr("with --devices"));
  EXPECT_FALSE(read_file(loop.path()) == content);
  EXPECT_EQ(desk({"restore", "stick", name, "--to", (desk.folder / "x"), "--devices"}).exit, 2);
  Ran dry = desk({"restore", "stick", name, "--in-place", "--devices", "--dry"});
  EXPECT_THAT(dry.out, HasSubstr("written over the device"));
  EXPECT_FALSE(read_file(loop.path()) == content);
  Ran back = desk({"restore", "stick", name, "--in-place", "--devices"});
  EXPECT_EQ(back.exit, 0) << back.out;
  EXPECT_TRUE(read_file(loop.path()) == content);

  // An increment stores what differs, and reads the device every time.
  ran = desk({"run", "stick", "--json"});
  EXPECT_EQ(ran.exit, 0);
  EXPECT_THAT(ran.out, HasSubstr("\"read-bytes\": 3"));

  // Too small a device, or none, is not written to.
  fs::remove(name);
  write_file((desk.folder / "small.img"), std::string(1 << 20, 'b'));
  LoopDevice small((desk.folder / "small.img"));
  fs::create_symlink(small.path(), name);
  Ran too_small = desk({"restore", "stick", name, "--in-place", "--devices"});
  EXPECT_EQ(too_small.exit, 1);
  EXPECT_THAT(too_small.out, HasSubstr("nothing is written to it"));
  EXPECT_EQ(read_file(small.path()), std::string(1 << 20, 'b'));
  fs::remove(name);
  write_file(name, "no device");
  EXPECT_THAT(desk({"restore", "stick", name, "--in-place", "--devices"}).out,
              HasSubstr("is no block device"));
  EXPECT_EQ(read_file(name), "no device");
}

TEST(Devices, AnEmptyDriveIsAProblemNotAnEmptyImage) {
  if (geteuid() != 0) GTEST_SKIP() << "loop devices need root";
  Desk desk;
  write_file((desk.folder / "stick.img"), std::string(1 << 20, 's'));
  LoopDevice loop((desk.folder / "stick.img"));
  if (loop.path().empty()) GTEST_SKIP() << "no loop device is to be had here";
  std::string name = loop.path();
  write_file((desk.folder / "list.csv"), "ring,species\n");
  ASSERT_EQ(
      desk({"job", "define", "stick", "--what-folders", name, "--what-folders", (desk.folder / "list.csv"),
            "--same-disk", "--where-destinations", desk.drive(), "--protect-encryption", "none"})
          .exit,
      0);
  loop.detach();
  Ran ran = desk({"run", "stick"});
  EXPECT_EQ(ran.exit, 1) << ran.out;
  EXPECT_THAT(ran.out + ran.err, HasSubstr("No medium found"));
}

}  // namespace
}  // namespace kestrum::test
