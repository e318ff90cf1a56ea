// Two homes at one place: machines of one name, clones, a home set back. docs/ARCHITECTURE.md, "Two
// memories".
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "support/program.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;
using testing::HasSubstr;
using testing::Not;

constexpr int refused = 8;

// A desk of its own that saves to a place shared with others.
class Machine {
 public:
  Machine(const TempFolder& folder, const std::string& name, const std::string& id = "")
      : folder_(folder / name), drive_(folder / "drive"), program_(KESTRUM_BINARY) {
    program_.environment["KESTRUM_HOME"] = home();
    program_.environment["KESTRUM_MACHINE"] = "skerry-1";
    program_.environment["KESTRUM_MACHINE_ID"] = id;
    fs::create_directories(drive_);
    write_file(pass(), "tern in the fog\n");
    chmod(pass().c_str(), 0600);
    save("one of " + name);
  }
  std::string home() const { return folder_ + "/home"; }
  std::string source() const { return folder_ + "/ringing"; }
  std::string pass() const { return folder_ + "/pass"; }
  const std::string& drive() const { return drive_; }
  void save(const std::string& content) { write_file(source() + "/list.csv", content); }
  Ran operator()(const std::vector<std::string>& words) const { return program_.run(words); }
  Ran define(const std::vector<std::string>& more = {}) {
    std::vector<std::string> words{"job",
                                   "define",
                                   "wardens",
                                   "--what-folders",
                                   source(),
                                   "--where-destinations",
                                   drive_,
                                   "--same-disk",
                                   "--protect-passphrase",
                                   "file:" + pass()};
    words.insert(words.end(), more.begin(), more.end());
    return program_.run(words);
  }
  Ran run(const std::vector<std::string>& more = {}) const {
    std::vector<std::string> words{"run", "wardens", "--same-disk", "--quiet"};
    words.insert(words.end(), more.begin(), more.end());
    return program_.run(words);
  }
  // What the newest point holds, or what a restore says instead.
  std::string newest(const std::string& subject = "wardens") const {
    const std::string target = folder_ + "/back";
    fs::remove_all(target);
    const Ran ran = program_.run(
        {"restore", subject, "/", "--to", target, "--layout", "flat", "--passphrase", "file:" + pass()});
    return ran.exit == 0 ? read_file(target + "/list.csv") : ran.err;
  }
  std::vector<int> points() const {
    std::vector<int> out;
    const Ran ran = program_.run({"points", "wardens", "--json"});
    const Json json = Json::parse(ran.out.empty() ? "{}" : ran.out);
    if (!json.contains("points")) return out;
    for (const Json& point : json["points"]) out.push_back(point["point"].get<int>());
    return out;
  }
  // The same home on another machine, with the files that are there now.
  void become_copy_of(const Machine& other) {
    fs::remove_all(home());
    fs::copy(other.home(), home(), fs::copy_options::recursive);
    const std::string file = home() + "/jobs/wardens.toml";
    std::string text = read_file(file);
    for (std::size_t at = 0; (at = text.find(other.folder_, at)) != std::string::npos;)
      text.replace(at, other.folder_.size(), folder_);
    write_file(file, text);
  }
  // From now on another account's, with all that it has.
  void belong_to(unsigned user) {
    for (const auto& entry : fs::recursive_directory_iterator(folder_))
      ASSERT_EQ(lchown(entry.path().c_str(), user, user), 0);
    ASSERT_EQ(lchown(folder_.c_str(), user, user), 0);
    program_.user = user;
  }
  void set_id(const std::string& id) { program_.environment["KESTRUM_MACHINE_ID"] = id; }
  void set_name(const std::string& name) { program_.environment["KESTRUM_MACHINE"] = name; }

 private:
  std::string folder_, drive_;
  Program program_;
};

const std::string first_id(32, '1'), second_id(32, '2');

// Each way on that the refusal names, as it is said there.
std::string way_on(const Ran& refusal, const std::string& word) {
  for (std::size_t at = 0; at < refusal.err.size();) {
    const std::size_t end = std::min(refusal.err.find('\n', at), refusal.err.size());
    const std::string line = refusal.err.substr(at, end - at);
    if (line.find(word) != std::string::npos) return line.substr(line.find("kestrum "));
    at = end + 1;
  }
  return {};
}

std::vector<std::string> words_of(const std::string& command) {
  std::vector<std::string> words;
  for (std::size_t at = 0; at < command.size();) {
    const std::size_t end = std::min(command.find(' ', at), command.size());
    if (end > at) words.push_back(command.substr(at, end - at));
    at = end + 1;
  }
  words.erase(words.begin());  // kestrum
  return words;
}

class TwoMachines : public testing::Test {
 protected:
  std::string folder_of(int n) const {
    return folder_ / ("drive/skerry-1/wardens" + (n == 1 ? "" : "-" + std::to_string(n)));
  }
  TempFolder folder_;
  Machine first_{folder_, "first", first_id};
  Machine second_{folder_, "second", second_id};
};

TEST_F(TwoMachines, OfOneNameDoNotGoOnWithOneChain) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(second_.define({"--keep-points", "1 point", "--keep-at-least", "1 point"}).exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  const Snapshot before = take_snapshot(folder_of(1));

  const Ran ran = second_.run();
  EXPECT_EQ(ran.exit, refused) << ran.err;
  EXPECT_THAT(ran.err, HasSubstr(folder_of(1)));
  EXPECT_THAT(way_on(ran, "rebuild"), HasSubstr("--take-over"));
  EXPECT_THAT(way_on(ran, "another name"), HasSubstr("kestrum job rename wardens NAME"));
  EXPECT_THAT(way_on(ran, "beside"), HasSubstr("--beside"));
  for (const char* verb : {"prune", "fold"}) EXPECT_NE(second_({verb, "wardens"}).exit, 0) << verb;
  EXPECT_NE(second_({"keep", "wardens", "1"}).exit, 0);
  EXPECT_NE(second_({"passphrase", "change", "wardens", "--new", "file:" + first_.pass()}).exit, 0);
  EXPECT_EQ(compare_snapshots(before, take_snapshot(folder_of(1))), "");
  EXPECT_FALSE(fs::exists(folder_of(2))) << "a refused run leaves nothing";

  // What is there is not its own either.
  EXPECT_THAT(second_.newest(), HasSubstr("another job of that name is in " + folder_of(1)));
  EXPECT_EQ(second_.newest(folder_of(1)), "one of first");
  const Ran status = second_({"status"});
  EXPECT_EQ(status.exit, 1);
  EXPECT_THAT(status.out, HasSubstr("its next run is refused: another job is in " + folder_of(1)));
  EXPECT_THAT(status.out, HasSubstr("--beside"));
}

TEST_F(TwoMachines, AFolderBesideIsOnesOwn) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(second_.define({"--keep-points", "1 point", "--keep-at-least", "1 point"}).exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  const Ran ran = second_.run();
  ASSERT_EQ(second_(words_of(way_on(ran, "beside"))).exit, 0);
  EXPECT_TRUE(fs::exists(folder_of(2)));
  second_.save("two of second");
  ASSERT_EQ(second_.run({"--kind", "full"}).exit, 0);
  EXPECT_EQ(second_.newest(), "two of second");
  EXPECT_EQ(first_.newest(), "one of first");
  EXPECT_EQ(first_.points(), std::vector<int>{1});
  ASSERT_EQ(first_.run().exit, 0);
  EXPECT_EQ(first_.points(), (std::vector<int>{1, 2}));

  // Whoever finds the drive sees both, and is told how to name either.
  const Ran which = first_({"points", first_.drive()});
  EXPECT_EQ(which.exit, 2);
  EXPECT_THAT(which.err, HasSubstr(folder_of(1) + "\n"));
  EXPECT_THAT(which.err, HasSubstr(folder_of(2) + "\n"));
  EXPECT_THAT(which.err, Not(HasSubstr("--machine skerry-1 --job wardens")));
  EXPECT_EQ(first_({"points", folder_of(2)}).exit, 0);
  const Ran status = first_({"status", first_.drive()});
  EXPECT_THAT(status.out, HasSubstr("skerry-1/wardens-2"));
}

TEST_F(TwoMachines, AnotherNameIsAWayOn) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(second_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  ASSERT_EQ(second_.run().exit, refused);
  ASSERT_EQ(second_({"job", "rename", "wardens", "moths"}).exit, 0);
  ASSERT_EQ(second_({"run", "moths", "--same-disk"}).exit, 0);
  EXPECT_EQ(second_.newest("moths"), "one of second");
  EXPECT_EQ(first_.newest(), "one of first");
}

// A machine set up anew beside its old sets: taking over goes on with them, and the old home is told.
TEST_F(TwoMachines, TakingOverGoesOnAndTheOtherHomeIsRefused) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  ASSERT_EQ(second_.define().exit, 0);
  const Ran ran = second_.run();
  ASSERT_EQ(ran.exit, refused);
  const Ran taken = second_(words_of(way_on(ran, "rebuild")));
  ASSERT_EQ(taken.exit, 0) << taken.err;
  EXPECT_THAT(taken.out, HasSubstr("1 point is taken into its history"));
  EXPECT_EQ(second_.newest(), "one of first");
  second_.save("two of second");
  ASSERT_EQ(second_.run().exit, 0);
  EXPECT_EQ(second_.points(), (std::vector<int>{1, 2}));
  const Ran old = first_.run();
  EXPECT_EQ(old.exit, refused);
  EXPECT_THAT(old.err, HasSubstr("point 2 in " + folder_of(1) + " was not made by this home"));
  const Ran points = first_({"points", "wardens"});
  EXPECT_THAT(points.out, HasSubstr("The next run is refused: point 2"));
  EXPECT_EQ(points.exit, 1);
  EXPECT_THAT(first_({"status"}).out, HasSubstr("its next run is refused: point 2"));
  // It, too, may take over again.
  ASSERT_EQ(first_(words_of(way_on(old, "rebuild"))).exit, 0);
  EXPECT_EQ(first_.run().exit, 0);
  EXPECT_EQ(second_.run().exit, refused);
}

// Desktops made from one image, with a job in it that has never run.
TEST_F(TwoMachines, ClonesOfAJobThatNeverRanAreJobsOfTheirOwn) {
  ASSERT_EQ(first_.define().exit, 0);
  second_.become_copy_of(first_);
  ASSERT_EQ(first_.run().exit, 0);
  EXPECT_EQ(second_.run().exit, refused);
  EXPECT_EQ(second_.run({"--beside"}).exit, 0);
  EXPECT_EQ(second_.newest(), "one of second");
  // Where not even the system's own identity differs, who comes second is refused, too.
  Machine third(folder_, "third", first_id);
  Machine fourth(folder_, "fourth", first_id);
  third.set_name("skerry-3");
  ASSERT_EQ(third.define().exit, 0);
  fourth.become_copy_of(third);
  fourth.set_name("skerry-4");
  ASSERT_EQ(third.run().exit, 0);
  const Ran ran = fourth.run();
  EXPECT_EQ(ran.exit, refused);
  EXPECT_THAT(ran.err, HasSubstr("remembers neither making nor taking over"));
  ASSERT_EQ(fourth(words_of(way_on(ran, "--beside"))).exit, 0);
  EXPECT_EQ(fourth.newest(), "one of fourth");
  EXPECT_EQ(third.newest(), "one of third");
  EXPECT_EQ(third.run().exit, 0);
}

// A clone that comes first is found by the machine, else by the point that it has made.
TEST_F(TwoMachines, AClonedMemoryDoesNotGoOnBesideItsOriginal) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  second_.become_copy_of(first_);
  const Ran ran = second_.run();
  EXPECT_EQ(ran.exit, refused);
  EXPECT_THAT(ran.err, HasSubstr("is of another machine"));
  EXPECT_EQ(first_.run().exit, 0) << "the original is in nobody's way";

  second_.become_copy_of(first_);
  second_.set_id(first_id);
  ASSERT_EQ(second_.run().exit, 0) << "nothing tells them apart yet";
  const Ran now = first_.run();
  EXPECT_EQ(now.exit, refused);
  EXPECT_THAT(now.err, HasSubstr("was not made by this home"));
  for (const char* verb : {"prune", "fold"}) EXPECT_EQ(first_({verb, "wardens"}).exit, refused) << verb;
  // By the words: a job of another name.
  const std::string way = way_on(now, "another name");
  EXPECT_THAT(way, HasSubstr("kestrum job copy wardens NAME; kestrum job remove wardens"));
  ASSERT_EQ(first_({"job", "copy", "wardens", "ringers"}).exit, 0);
  ASSERT_EQ(first_({"job", "remove", "wardens"}).exit, 0);
  ASSERT_EQ(first_({"run", "ringers", "--same-disk"}).exit, 0);
  EXPECT_EQ(first_.newest("ringers"), "one of first");
  EXPECT_EQ(second_.run().exit, 0);
}

// Root and a person of one desk, who both call their job wardens.
TEST_F(TwoMachines, RootAndAPersonAreTwo) {
  if (geteuid() != 0) GTEST_SKIP() << "needs root: files of several people";
  constexpr unsigned nobody = 65534;
  fs::permissions(folder_.path(), fs::perms::others_exec | fs::perms::others_read, fs::perm_options::add);
  fs::permissions(first_.drive(), fs::perms::all);
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  second_.set_id(first_id);
  second_.belong_to(nobody);
  ASSERT_EQ(second_.define().exit, 0);
  const Ran ran = second_.run();
  EXPECT_EQ(ran.exit, refused) << ran.err;
  ASSERT_EQ(second_({"job", "rename", "wardens", "tracks"}).exit, 0);
  // Below root's folder of the machine nobody else makes anything.
  EXPECT_NE(second_({"run", "tracks", "--same-disk"}).exit, 0);
  second_.set_name("skerry-1-isla");
  EXPECT_EQ(second_({"run", "tracks", "--same-disk"}).exit, 0);
  EXPECT_EQ(second_.newest("tracks"), "one of second");
  EXPECT_EQ(first_.run().exit, 0);
  EXPECT_EQ(first_.newest(), "one of first");
}

// The same machine, whatever it is called and wherever its disk is.
TEST_F(TwoMachines, ARenamedOneGoesOn) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  first_.set_name("tern-desk");
  EXPECT_EQ(first_.run().exit, 0);
  EXPECT_EQ(first_.points(), (std::vector<int>{1, 2}));
  EXPECT_THAT(first_({"status", first_.drive()}).out, HasSubstr("tern-desk: wardens"));
  // Another one of the old name finds the folder taken.
  ASSERT_EQ(second_.define().exit, 0);
  EXPECT_EQ(second_.run().exit, 0) << "its names are free again";
  EXPECT_EQ(first_.run().exit, 0);
  EXPECT_EQ(second_.points(), std::vector<int>{1});
}

TEST_F(TwoMachines, AHomeThatWasSetBackSaysWhatToDo) {
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  fs::copy(first_.home(), folder_ / "older", fs::copy_options::recursive);
  first_.save("two");
  ASSERT_EQ(first_.run().exit, 0);
  fs::remove_all(first_.home());
  fs::copy(folder_ / "older", first_.home(), fs::copy_options::recursive);
  const Ran ran = first_.run();
  EXPECT_EQ(ran.exit, refused);
  EXPECT_EQ(first_.newest(), "two") << "what is there comes back all the same";
  ASSERT_EQ(first_(words_of(way_on(ran, "rebuild"))).exit, 0);
  EXPECT_EQ(first_.run().exit, 0);
  EXPECT_EQ(first_.points(), (std::vector<int>{1, 2, 3}));
}

// A home that cannot be written to remembers nothing; that is no reason to refuse what it made.
TEST_F(TwoMachines, AHomeThatCouldNotBeWrittenKnowsItsPointsAgain) {
  if (geteuid() != 0) GTEST_SKIP() << "needs root: a read-only mount";
  ASSERT_EQ(first_.define().exit, 0);
  ASSERT_EQ(first_.run().exit, 0);
  const std::string home = first_.home();
  ASSERT_EQ(
      std::system(
          ("mount --bind '" + home + "' '" + home + "' && mount -o remount,ro,bind '" + home + "'").c_str()),
      0);
  EXPECT_EQ(first_.run().exit, 1);
  EXPECT_EQ(first_.run().exit, 1);
  ASSERT_EQ(std::system(("umount '" + home + "'").c_str()), 0);
  EXPECT_EQ(first_.run().exit, 0);
  EXPECT_EQ(first_.points(), (std::vector<int>{1, 2, 3, 4}));
}

}  // namespace
}  // namespace kestrum::test
