// Archives made by somebody who has the key, so that everything about them is authentic but their meaning:
// none of them reaches anything outside the target, by restore, by the picker, or through `open`; as root and
// as an ordinary user.
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <cstdlib>
#include <iostream>

#include "program/desk.hpp"
#include "support/forged_set.hpp"
#include "support/mounts.hpp"
#include "support/terminal.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

struct Form {
  std::string name;
  std::vector<ForgedEntry> entries;
  std::function<void(const std::string& target)> before = {};  // what lies in the target already
};

ForgedEntry link_to(const std::string& path, const std::string& to) {
  ForgedEntry forged;
  forged.entry.path = TreePath::parse(path).value();
  forged.entry.type = EntryType::symlink;
  forged.entry.link_target = to;
  forged.entry.mode = 0777;
  return forged;
}

ForgedEntry special(const std::string& path, EntryType type, std::uint32_t major_number,
                    std::uint32_t minor_number) {
  ForgedEntry forged;
  forged.entry.path = TreePath::parse(path).value();
  forged.entry.type = type;
  forged.entry.mode = 0666;
  forged.entry.device_major = major_number;
  forged.entry.device_minor = minor_number;
  return forged;
}

// A path that no TreePath of ours could be.
ForgedEntry at_raw_path(ForgedEntry forged, const std::string& joined) {
  const_cast<std::string&>(forged.entry.path.joined()) = joined;
  return forged;
}

ForgedEntry with_name_group(ForgedEntry forged, std::uint64_t inode) {
  forged.entry.several_names = true;
  forged.entry.inode = inode;
  return forged;
}

ForgedEntry with_attribute(ForgedEntry forged, const std::string& name, const std::string& value) {
  forged.entry.attributes = {{name, value}};
  return forged;
}

ForgedEntry with_mode(ForgedEntry forged, std::uint32_t mode) {
  forged.entry.mode = mode;
  return forged;
}

std::vector<Form> all_forms(const std::string& outside) {
  const std::string canary = outside + "/canary";
  const auto file = [](const std::string& path) { return forged_file(path, "an attack\n"); };
  std::vector<Form> all{
      {"a link outside, and a file through it", {link_to("/srv/way", outside), file("/srv/way/canary")}},
      {"a link upwards, and a file through it",
       {link_to("/srv/way", "../../outside"), file("/srv/way/canary")}},
      {"a link to itself's folder", {link_to("/srv/way", "."), file("/srv/way/way/way/x")}},
      {"a link over a link",
       {link_to("/srv/a", "b"), link_to("/srv/b", outside), file("/srv/a/canary"), file("/srv/b/canary")}},
      {"a link, then a folder of its name",
       {link_to("/srv/way", outside), forged_folder("/srv/way"), file("/srv/way/canary")}},
      {"a folder, then a link of its name",
       {forged_folder("/srv/way"), link_to("/srv/way", outside), file("/srv/way/canary")}},
      {"a link, then a file of its name", {link_to("/srv/way", canary), file("/srv/way")}},
      {"a file, then a link of its name, then a file",
       {file("/srv/way"), link_to("/srv/way", canary), file("/srv/way")}},
      {"a file, then files below it", {file("/srv/way"), file("/srv/way/canary")}},
      {"files before the link that leads to them",
       {file("/srv/way/canary"), link_to("/srv/way", outside), file("/srv/way/other")}},
      {"the top of all is a link", {link_to("/srv", outside), file("/srv/canary")}},
      {"another name of what became a link",
       {with_name_group(link_to("/srv/one", canary), 7), with_name_group(file("/srv/two"), 7)}},
      {"another name of a file below a link",
       {link_to("/srv/a", outside), with_name_group(file("/srv/a/canary"), 8),
        with_name_group(file("/srv/b"), 8)}},
      {"another name of a folder",
       {with_name_group(forged_folder("/srv/a"), 9), with_name_group(file("/srv/b"), 9)}},
      {"two dots", {at_raw_path(file("/srv/x"), "srv/../../outside/canary")}},
      {"two dots at the beginning", {at_raw_path(file("/srv/x"), "../outside/canary")}},
      {"one dot", {at_raw_path(file("/srv/x"), "srv/./x")}},
      {"an empty name", {at_raw_path(file("/srv/x"), "srv//x")}},
      {"a path from the root", {at_raw_path(file("/srv/x"), canary)}},
      {"a name with a zero", {at_raw_path(file("/srv/x"), std::string("srv/x\0y", 7))}},
      {"a folder of two dots",
       {at_raw_path(forged_folder("/srv/x"), "srv/.."),
        at_raw_path(file("/srv/x"), "srv/../outside/canary")}},
      {"a name of 5,000 letters", {file("/srv/" + std::string(5000, 'n'))}},
      {"a path of 600 levels", {file([] {
         std::string path = "/srv";
         for (int i = 0; i < 600; ++i) path += "/level";
         return path;
       }())}},
      {"a program that runs as root", {with_mode(file("/srv/shell"), 06755)}},
      {"a folder that nobody may enter, with files in it",
       {with_mode(forged_folder("/srv/closed"), 0), file("/srv/closed/x")}},
      {"the system's disk as a device", {special("/srv/disk", EntryType::block_device, 254, 0)}},
      {"the memory as a device, then a file of its name",
       {special("/srv/mem", EntryType::char_device, 1, 1), file("/srv/mem")}},
      {"a FIFO, then a file of its name", {special("/srv/pipe", EntryType::fifo, 0, 0), file("/srv/pipe")}},
      {"a socket, then a file below it",
       {special("/srv/socket", EntryType::socket, 0, 0), file("/srv/socket/x")}},
      {"rights of a program",
       {with_attribute(with_mode(file("/srv/tool"), 0755), "security.capability",
                       std::string("\1\0\0\2\xff\xff\xff\xff\xff\xff\xff\xff\0\0\0\0\0\0\0\0", 20))}},
      {"an attribute of another file system",
       {with_attribute(forged_folder("/srv/f"), "trusted.overlay.opaque", "y")}},
      {"an access list that is none",
       {with_attribute(file("/srv/f"), "system.posix_acl_access", "nonsense")}},
      {"names that a terminal would obey", {file("/srv/\033]0;x\007\033[2J"), link_to("/srv/l", "\033[31m")}},
      {"a name of our own for what is half there",
       {file("/srv/.kestrum-0123456789abcdef-1.part"), file("/srv/x")}},
  };
  // What an earlier restore, or somebody else, has left in the target.
  all.push_back({"a link lies in the target",
                 {forged_folder("/srv"), forged_folder("/srv/way"), file("/srv/way/canary")},
                 [outside](const std::string& target) {
                   fs::create_directories(target + "/srv");
                   fs::create_directory_symlink(outside, target + "/srv/way");
                 }});
  all.push_back({"a link lies where a file goes",
                 {forged_folder("/srv"), file("/srv/canary")},
                 [canary](const std::string& target) {
                   fs::create_directories(target + "/srv");
                   fs::create_symlink(canary, target + "/srv/canary");
                 }});
  for (Form& form : all) {
    if (form.entries[0].entry.path.joined() != "srv")
      form.entries.insert(form.entries.begin(), forged_folder("/srv"));
  }
  return all;
}

class HostileRestores : public testing::TestWithParam<bool> {
 protected:
  static constexpr unsigned nobody = 65534;

  // A drive that holds this one point, which the passphrase opens.
  void plant(Desk& desk, const Form& form) {
    const auto store = open_local_store(desk.drive());
    ForgedSet set;
    set.job = random_id();
    set.name = "wardens";
    set.keys = {make_passphrase_entry(set.master, set.facts.chain, "tern in the fog", {8, 1})};
    set.entries = form.entries;
    ASSERT_TRUE(create_drive(*store, {random_id(), "tern-1", set.facts.started, {}, false}));
    store->make_folders("skerry-1/wardens");
    ASSERT_TRUE(
        create_job_identity(*store, "skerry-1/wardens", {set.job, "skerry-1", "wardens", set.facts.started}));
    forge(*store, "skerry-1/wardens", set);
  }
  // As whom the test is run.
  Program program(const Desk& desk) const {
    Program as = desk.program;
    if (!GetParam()) as.user = nobody;
    return as;
  }
  std::vector<std::string> opening(const Desk& desk, std::vector<std::string> words) const {
    words.insert(words.end(), {"--passphrase", "file:" + desk.pass()});
    return words;
  }
  void all_is_well(const Ran& ran) const {
    EXPECT_GE(ran.exit, 0) << "ended by a signal: " << ran.err
                           << ran.out.substr(ran.out.size() - std::min<std::size_t>(ran.out.size(), 1500));
    EXPECT_LE(ran.exit, 11) << ran.err;
    EXPECT_EQ(ran.err.find("unexpected"), std::string::npos) << ran.err;
  }
  // Into a new target each time, and once more over what is there then.
  void restore_in_all_ways(Desk& desk, const Form& form) {
    int number = 0;
    for (const char* layout : {"path", "picked", "flat"}) {
      const std::string target = desk.folder / ("target-" + std::to_string(++number));
      fs::create_directories(target);
      chmod(target.c_str(), 0777);
      if (form.before) form.before(target);
      for (const char* clash : {"keep-both", "replace"})
        all_is_well(program(desk).run(opening(desk, {"restore", desk.drive(), "/", "--to", target, "--layout",
                                                     layout, "--clash", clash, "--quiet"})));
    }
    for (const char* ending : {".zip", ".tar.zst"})
      all_is_well(program(desk).run(opening(
          desk, {"restore", desk.drive(), "/", "--into", desk.folder / "made" + std::string(ending)})));
  }
  void pick(Desk& desk) {
    const std::string target = desk.folder / "picked";
    Terminal terminal(program(desk),
                      opening(desk, {"restore", desk.drive(), "--to", target, "--clash", "replace"}));
    terminal.page("from which day?");
    terminal.press(key_enter);
    if (terminal.page("Space: choose|goes on").find("goes on") != std::string::npos) {
      terminal.press(key_enter);  // that day does not open, and there is no other
      terminal.page("from which day?");
      terminal.press("q");
      return all_is_well(terminal.end());
    }
    terminal.press("\033OH r");  // all of it
    terminal.page("Where to?");
    terminal.press(key_end);
    terminal.press(key_enter);
    terminal.page("Nothing is written yet");
    terminal.press(key_enter);
    all_is_well(terminal.end());
  }
  void look_through_open(Desk& desk) {
    const std::string on = desk.folder / "mounted";
    fs::create_directories(on);
    chmod(on.c_str(), 0777);
    const int given = GetParam() ? 0 : chown(on.c_str(), nobody, nobody);
    EXPECT_EQ(given, 0);
    const Ran opened = program(desk).run(opening(desk, {"open", desk.drive(), "--at", "latest", "--on", on}));
    all_is_well(opened);
    if (opened.exit != 0) return;
    // Nothing in it acts: no device, no right of a program; and whatever reads it comes to an end.
    const std::string as = GetParam() ? "" : "setpriv --reuid=65534 --regid=65534 --clear-groups ";
    const std::string look = as + "find -P '" + on + "' -xdev -type f -exec cat {} + > /dev/null 2>&1; " +
                             "grep -q ' " + on + " fuse.kestrum .*nosuid,nodev' /proc/self/mounts";
    EXPECT_EQ(std::system(look.c_str()), 0) << look;
    all_is_well(program(desk).run({"open", "--close", on}));
  }
};

TEST_P(HostileRestores, NoneLeavesTheTarget) {
  if (geteuid() != 0 || !may_mount()) GTEST_SKIP() << "the other user's part and mounting need root";
  // The picker takes its time: for a quarter of them, all in the long tier.
  const bool all = std::getenv("KESTRUM_HOSTILE") != nullptr;
  unsigned number = 0, picked = 0;
  const std::size_t count = all_forms("/x").size();
  for (std::size_t at = 0; at < count; ++at) {
    Desk desk;
    const std::string outside = desk.folder / "outside";
    const Form form = all_forms(outside)[at];
    SCOPED_TRACE(form.name);
    write_file(outside + "/canary", "untouched\n");
    write_file(outside + "/deeper/file", "untouched\n");
    plant(desk, form);
    if (!GetParam()) {
      const std::string give = "chown -R -h 65534:65534 '" + desk.folder.path() + "'";
      ASSERT_EQ(std::system(give.c_str()), 0);
    }
    const Snapshot canary = take_snapshot(outside);
    restore_in_all_ways(desk, form);
    look_through_open(desk);
    if (all || at % 4 == (GetParam() ? 0 : 2)) {
      pick(desk);
      ++picked;
    }
    EXPECT_EQ(compare_snapshots(canary, take_snapshot(outside)), "");
    // And nothing beside the targets.
    for (const auto& one : fs::directory_iterator(desk.folder.path())) {
      const std::string name = one.path().filename();
      const bool ours = name.starts_with("target-") || name.starts_with("made") || name == "picked" ||
                        name == "mounted" || name == "outside" || name == "drive" || name == "source" ||
                        name == "pass" || name == "home";
      EXPECT_TRUE(ours) << name;
    }
    ++number;
    if (HasFailure()) return;
  }
  EXPECT_GE(number, 30u);
  std::cout << number << " forms by restore and open, " << picked << " of them by the picker, as "
            << (GetParam() ? "root" : "an ordinary user") << ": none left the target\n";
}

INSTANTIATE_TEST_SUITE_P(Users, HostileRestores, testing::Values(true, false),
                         [](const auto& user) { return user.param ? "root" : "ordinary"; });

}  // namespace
}  // namespace kestrum::test
