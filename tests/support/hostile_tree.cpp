#include "support/hostile_tree.hpp"

#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/xattr.h>
#include <unistd.h>

#include <filesystem>

#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

void set_time(const std::string& path, long long seconds, long nanoseconds) {
  timespec times[2] = {{0, UTIME_OMIT}, {seconds, nanoseconds}};
  ASSERT_EQ(utimensat(AT_FDCWD, path.c_str(), times, AT_SYMLINK_NOFOLLOW), 0) << path;
}

}  // namespace

void make_hostile(const std::string& root) {
  for (const std::string& name :
       {std::string("new\nline"), std::string("\xff\xfe\x80"), std::string(255, 'n'), std::string("dot."),
        std::string("..."), std::string("blank "), std::string(" "), std::string("-rf"), std::string("*?[]"),
        std::string("a\\b"), std::string("\x1b[31m"), std::string("CON"), std::string("x:y"),
        std::string("\xc3\xa9"), std::string("e\xcc\x81"), std::string(".kestrum-00.part"),
        std::string("seal.json")}) {
    write_file(root + "/names/" + name, "content of " + name);
  }
  write_file(root + "/empty", "");
  fs::create_directories(root + "/empty folder");
  write_file(root + "/linked", "many names");
  for (int i = 0; i < 5; ++i)
    fs::create_hard_link(root + "/linked", root + "/names/hard-" + std::to_string(i));
  fs::create_symlink("/nowhere/\xff", root + "/dangling");
  fs::create_symlink(std::string(4000, 'l'), root + "/long link");
  set_time(root + "/dangling", -86400LL * 365 * 80, 1);
  ASSERT_EQ(mkfifo((root + "/pipe").c_str(), 0622), 0);
  write_file(root + "/old", "1901");
  set_time(root + "/old", -2147483648LL, 999999999);
  write_file(root + "/future", "2200");
  set_time(root + "/future", 7258118400LL, 5);
  write_file(root + "/setuid", "#!/bin/sh\n");
  chmod((root + "/setuid").c_str(), 06755);
  fs::create_directories(root + "/sticky");
  chmod((root + "/sticky").c_str(), 01777);
  write_file(root + "/closed/inner", "behind a closed door");
  chmod((root + "/closed/inner").c_str(), 0);
  write_file(root + "/tagged", "x");
  std::string large(3000, 'v');
  setxattr((root + "/tagged").c_str(), "user.large", large.data(), large.size(), 0);
  setxattr((root + "/tagged").c_str(), "user.empty", "", 0, 0);
  setxattr((root + "/empty folder").c_str(), "user.folder", "\0\xff", 2, 0);
  int fd = open((root + "/sparse").c_str(), O_CREAT | O_WRONLY, 0644);
  ASSERT_EQ(pwrite(fd, "middle", 6, 40 << 20), 6);
  ASSERT_EQ(ftruncate(fd, 64 << 20), 0);
  close(fd);
  if (geteuid() != 0) return;
  ASSERT_EQ(mknod((root + "/null").c_str(), S_IFCHR | 0666, makedev(1, 3)), 0);
  ASSERT_EQ(mknod((root + "/disk").c_str(), S_IFBLK | 0600, makedev(7, 250)), 0);
  ASSERT_EQ(lchown((root + "/old").c_str(), 12345, 54321), 0);
  ASSERT_EQ(lchown((root + "/dangling").c_str(), 777, 888), 0);
  // An access list with one more reader, in the kernel's own form.
  const unsigned char acl[] = {2, 0,  0,   0,   1,   0,   6,  0, 255, 255, 255, 255, 2,   0,  4,
                               0, 57, 48,  0,   0,   4,   0,  4, 0,   255, 255, 255, 255, 16, 0,
                               6, 0,  255, 255, 255, 255, 32, 0, 0,   0,   255, 255, 255, 255};
  EXPECT_EQ(setxattr((root + "/tagged").c_str(), "system.posix_acl_access", acl, sizeof acl, 0), 0);
}

}  // namespace kestrum::test
