// Everything that can be wrong from outside gets one plain message, the documented exit code, and leaves
// nothing half-done.
#include <fcntl.h>
#include <sys/mount.h>
#include <unistd.h>

#include <nlohmann/json.hpp>

#include "program/desk.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// No set folder but those numbered in `sealed`, and no leftovers.
void expect_only(const Desk& desk, std::size_t sealed) {
  std::size_t folders = 0;
  if (fs::exists(desk.job_folder())) {
    for (const auto& entry : fs::directory_iterator(desk.job_folder())) {
      if (!entry.is_directory()) continue;
      ++folders;
      EXPECT_FALSE(entry.path().string().ends_with(".unfinished")) << entry.path();
    }
  }
  EXPECT_EQ(folders, sealed);
}

std::string last_result(Desk& desk) {
  auto json = nlohmann::json::parse(desk({"history", "wardens", "--json"}).out);
  return json["runs"].empty() ? "none" : json["runs"][0]["result"].get<std::string>();
}

TEST(BadInput, NoSuchJobOffersTheNearest) {
  Desk desk;
  desk.define();
  for (const char* verb : {"run", "preview", "points"}) {
    Ran ran = desk({verb, "warden"});
    EXPECT_EQ(ran.exit, 2) << verb;
    EXPECT_TRUE(holds(ran.err, "did you mean 'wardens'?")) << ran.err;
  }
}

TEST(BadInput, AMissingSourceIsAProblemAndTheRestIsSaved) {
  Desk desk;
  write_file(desk.source() + "/list.csv", "heron,2\n");
  desk.define({"--what-folders", desk.folder / "gone"});
  Ran ran = desk({"run", "wardens"});
  EXPECT_EQ(ran.exit, 1) << ran.err;
  EXPECT_TRUE(holds(ran.err, "this source is not there")) << ran.err;
  EXPECT_EQ(last_result(desk), "done with problems");
  expect_only(desk, 1);
}

TEST(BadInput, NothingReadableFails) {
  Desk desk;
  desk.define();
  fs::remove_all(desk.source());
  Ran ran = desk({"run", "wardens"});
  EXPECT_EQ(ran.exit, 3) << ran.err;
  EXPECT_TRUE(holds(ran.err, "nothing could be read")) << ran.err;
  EXPECT_EQ(last_result(desk), "failed");
  expect_only(desk, 0);
}

TEST(BadInput, DestinationMissingOrAFile) {
  Desk desk;
  desk.define();
  fs::remove_all(desk.drive());
  Ran ran = desk({"run", "wardens"});
  EXPECT_EQ(ran.exit, 5);
  EXPECT_TRUE(holds(ran.err, "is not there")) << ran.err;
  EXPECT_EQ(last_result(desk), "failed");
  write_file(desk.drive(), "not a folder");
  EXPECT_EQ(desk({"run", "wardens"}).exit, 5);
}

TEST(BadInput, AnEmptyMountPointAndAnotherDriveAreRefused) {
  Desk desk;
  write_file(desk.source() + "/a", "a");
  desk.define();
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  fs::rename(desk.drive(), desk.folder / "kept");
  fs::create_directories(desk.drive());
  Ran empty = desk({"run", "wardens"});
  EXPECT_EQ(empty.exit, 5);
  EXPECT_TRUE(holds(empty.err, "empty mount point")) << empty.err;
  EXPECT_TRUE(fs::is_empty(desk.drive()));

  Desk other;  // another drive: one that another job has used
  write_file(other.source() + "/a", "a");
  other.define();
  ASSERT_EQ(other({"run", "wardens"}).exit, 0);
  fs::copy(other.drive(), desk.drive(), fs::copy_options::recursive);
  Ran wrong = desk({"run", "wardens"});
  EXPECT_EQ(wrong.exit, 8) << wrong.err;
  EXPECT_TRUE(holds(wrong.err, "another drive")) << wrong.err;
}

TEST(BadInput, ADestinationThatCannotBeWritten) {
  Desk desk;
  write_file(desk.source() + "/a", "a");
  desk.define();
  if (geteuid() != 0) {
    chmod(desk.drive().c_str(), 0500);
  } else if (mount("tmpfs", desk.drive().c_str(), "tmpfs", MS_RDONLY, "size=1m") != 0) {
    GTEST_SKIP() << "no tmpfs can be mounted here";
  }
  Ran ran = desk({"run", "wardens"});
  umount(desk.drive().c_str());
  EXPECT_EQ(ran.exit, 5) << ran.err;
  EXPECT_TRUE(holds(ran.err, "cannot be written")) << ran.err;
  EXPECT_EQ(last_result(desk), "failed");
}

TEST(BadInput, AFullDriveKeepsEarlierPointsAndLeavesNothingHalfDone) {
  if (geteuid() != 0) GTEST_SKIP() << "mounting a small drive needs root";
  Desk desk;
  write_file(desk.source() + "/a", "first");
  desk.define();
  if (mount("tmpfs", desk.drive().c_str(), "tmpfs", 0, "size=4m") != 0)
    GTEST_SKIP() << "no tmpfs can be mounted here";
  EXPECT_EQ(desk({"run", "wardens"}).exit, 0);
  std::string noise(8u << 20, '\0');
  std::mt19937 random(1);
  for (char& c : noise) c = static_cast<char>(random());
  write_file(desk.source() + "/noise", noise);
  Ran full = desk({"run", "wardens"});
  EXPECT_EQ(full.exit, 9) << full.err;
  EXPECT_EQ(last_result(desk), "failed");
  expect_only(desk, 1);
  EXPECT_EQ(desk({"verify", "wardens"}).exit, 0);
  fs::remove(desk.source() + "/noise");
  EXPECT_EQ(desk({"run", "wardens"}).exit, 0);
  umount2(desk.drive().c_str(), MNT_DETACH);
}

TEST(BadInput, ADestinationInsideASourceIsLeftOut) {
  Desk desk;
  write_file(desk.source() + "/a", "a");
  std::string inside = desk.source() + "/backup";
  fs::create_directories(inside);
  ASSERT_EQ(desk({"job", "define", "inner", "--what-folders", desk.source(), "--same-disk",
                  "--where-destinations", inside, "--protect-encryption", "none"})
                .exit,
            0);
  for (int i = 0; i < 2; ++i) {
    Ran ran = desk({"run", "inner"});
    EXPECT_EQ(ran.exit, 0) << ran.err;
    EXPECT_TRUE(holds(ran.err, "lies inside a source and is left out")) << ran.err;
    EXPECT_TRUE(holds(ran.out, "1 file ")) << ran.out;
  }
}

TEST(BadInput, PassphrasesThatAreNoUse) {
  Desk desk;
  write_file(desk.source() + "/a", "a");
  desk.define();
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  chmod(desk.pass().c_str(), 0644);
  Ran open = desk({"run", "wardens"});
  EXPECT_EQ(open.exit, 7);
  EXPECT_TRUE(holds(open.err, "may be read by everybody")) << open.err;
  EXPECT_TRUE(holds(open.err, "chmod 600")) << open.err;
  chmod(desk.pass().c_str(), 0600);
  write_file(desk.pass(), "");
  EXPECT_EQ(desk({"run", "wardens"}).exit, 7);
  write_file(desk.pass(), "wrong\n");
  for (const std::vector<std::string>& words :
       std::vector<std::vector<std::string>>{{"run", "wardens"},
                                             {"run", "wardens", "--kind", "full"},
                                             {"browse", "wardens"},
                                             {"verify", "wardens"},
                                             {"restore", "wardens", "/", "--to", desk.folder / "out"}}) {
    Ran ran = desk(words);
    EXPECT_EQ(ran.exit, 7) << words[0] << ran.err;
    EXPECT_TRUE(holds(ran.err, "the passphrase does not open these archive sets")) << ran.err;
  }
  fs::remove(desk.pass());
  EXPECT_EQ(desk({"run", "wardens"}).exit, 7);
  expect_only(desk, 1);
  EXPECT_FALSE(fs::exists(desk.folder / "out/source"));
}

TEST(BadInput, NewerFormatsAndUnknownFeaturesAreRefused) {
  Desk desk;
  write_file(desk.source() + "/a", "a");
  desk.define({}, false);
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  // What a later version would write: the checks are plain digests, so the helper makes them anew.
  std::string script = std::string(KESTRUM_SOURCE) + "/tests/support/reseal.py";
  auto alter = [&](const std::string& from, const std::string& to) {
    for (const char* name : {"/seal.json", "/seal-copy.json"}) {
      std::string command =
          "python3 '" + script + "' '" + desk.set_folder(1) + name + "' '" + from + "' '" + to + "'";
      ASSERT_EQ(std::system(command.c_str()), 0);
    }
  };
  alter("\"requires\":[]", "\"requires\":[\"tide-2\"]");
  Ran feature = desk({"run", "wardens"});
  EXPECT_EQ(feature.exit, 3) << feature.err;
  EXPECT_TRUE(holds(feature.err, "needs the feature 'tide-2'")) << feature.err;
  EXPECT_EQ(desk({"restore", "wardens", "/", "--to", desk.folder / "out"}).exit, 3);
  alter("\"requires\":[\"tide-2\"]", "\"requires\":[]");
  alter("{\"format\":1", "{\"format\":2");
  Ran newer = desk({"run", "wardens"});
  EXPECT_EQ(newer.exit, 3) << newer.err;
  EXPECT_TRUE(holds(newer.err, "was written in format 2")) << newer.err;
}

TEST(BadInput, AFolderThatIsNoDestination) {
  Desk desk;
  for (const char* verb : {"points", "browse", "verify"}) {
    Ran ran = desk({verb, desk.source() + "/"});
    EXPECT_EQ(ran.exit, 5) << verb;
    EXPECT_TRUE(holds(ran.err, "is no destination")) << ran.err;
  }
}

TEST(BadInput, APathThatIsNotInThePointOffersTheNearest) {
  Desk desk;
  write_file(desk.source() + "/ringing-2026.csv", "x");
  desk.define();
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  Ran ran = desk({"restore", "wardens", desk.source() + "/ringing-2062.csv", "--to", desk.folder / "out"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(holds(ran.err, "did you mean " + desk.source() + "/ringing-2026.csv?")) << ran.err;
  EXPECT_FALSE(fs::exists(desk.folder / "out"));
  Ran early = desk({"browse", "wardens", "--at", "2001-01-01"});
  EXPECT_EQ(early.exit, 2);
  EXPECT_TRUE(holds(early.err, "there is no point as early as that")) << early.err;
  EXPECT_EQ(desk({"browse", "wardens", "--at", "someday"}).exit, 2);
  EXPECT_EQ(desk({"browse", "wardens", "--at", "7"}).exit, 2);
}

TEST(BadInput, ARestoreTargetThatIsAFile) {
  Desk desk;
  write_file(desk.source() + "/a", "a");
  desk.define();
  ASSERT_EQ(desk({"run", "wardens"}).exit, 0);
  write_file(desk.folder / "out", "precious");
  Ran ran = desk({"restore", "wardens", "/", "--to", desk.folder / "out"});
  EXPECT_EQ(ran.exit, 2);
  EXPECT_TRUE(holds(ran.err, "it is a file, not a folder")) << ran.err;
  EXPECT_EQ(read_file(desk.folder / "out"), "precious");
  EXPECT_EQ(desk({"restore", "wardens", "/"}).exit, 2);
}

TEST(BadInput, TwoRunsAtOnce) {
  Desk desk;
  std::string big(64u << 20, 'x');
  std::mt19937 random(7);
  for (std::size_t i = 0; i < big.size(); i += 3) big[i] = static_cast<char>(random());
  write_file(desk.source() + "/big", big);
  desk.define({"--how-compression", "19"});
  pid_t first = desk.program.start({"run", "wardens"});
  while (!fs::exists(desk.job_folder() + "/lock")) usleep(1000);
  Ran second = desk({"run", "wardens"});
  kill(first, SIGINT);
  int first_exit = Program::wait(first);
  EXPECT_EQ(second.exit, 6) << second.err;
  EXPECT_TRUE(holds(second.err, "another run is writing")) << second.err;
  EXPECT_EQ(first_exit, 11);  // stopped cleanly
  expect_only(desk, 0);
  EXPECT_FALSE(fs::exists(desk.job_folder() + "/lock"));
}

TEST(BadInput, WrongVerbsAndOptions) {
  Desk desk;
  EXPECT_TRUE(holds(desk({"restor", "x"}).err, "did you mean 'restore'?"));
  EXPECT_TRUE(holds(desk({"job", "defin", "x"}).err, "did you mean 'job define'?"));
  EXPECT_TRUE(holds(desk({"points", "x", "--machin", "y"}).err, "did you mean --machine?"));
  EXPECT_TRUE(holds(desk({"points", "x", "--machine"}).err, "needs a value"));
  EXPECT_TRUE(holds(desk({"points", "x", "--json=1"}).err, "takes no value"));
  EXPECT_EQ(desk({"points"}).exit, 2);
  EXPECT_EQ(desk({"points", "a", "b"}).exit, 2);
  EXPECT_EQ(desk({}).exit, 2);
  EXPECT_EQ(desk({"help"}).exit, 0);
}

TEST(BadInput, AJobFileThatIsWrongSaysWhere) {
  Desk desk;
  auto try_file = [&](const std::string& text) {
    write_file(desk.folder / "home/jobs/bad.toml", text);
    Ran ran = desk({"job", "check", "bad"});
    EXPECT_EQ(ran.exit, 2) << text;
    return ran.err;
  };
  std::string start = "[what]\nfolders = [\"/srv\"]\n[where]\ndestinations = [\"/media/x\"]\n";
  std::string err = try_file(start + "[how]\ncompresion = \"normal\"\n");
  EXPECT_TRUE(holds(err, "bad.toml:6:1: there is no key 'compresion' in [how]")) << err;
  EXPECT_TRUE(holds(err, "did you mean 'compression'?")) << err;
  EXPECT_TRUE(holds(err, "^^^^^^^^^^")) << err;
  EXPECT_TRUE(holds(try_file(start + "[hwo]\n"), "did you mean 'how'?"));
  EXPECT_TRUE(holds(try_file(start + "[how]\nkind = \"incremantal\"\n"), "bad.toml:6:8"));
  EXPECT_TRUE(holds(try_file(start + "[how]\nkind = \"incremantal\"\n"), "did you mean 'incremental'?"));
  EXPECT_TRUE(
      holds(try_file(start + "[when]\nruns = [\"dayly at 12:30\"]\n"), "did you mean \"daily at 12:30\"?"));
  EXPECT_TRUE(holds(try_file(start + "[when]\nif-missed = \"catchup\"\n"), "did you mean 'catch up'?"));
  EXPECT_TRUE(holds(try_file(start + "[how]\nvolume-size = \"100\"\n"), "is not a size: it has no unit"));
  EXPECT_TRUE(holds(try_file(start + "[how]\nvolume-size = 100\n"), "is not a size: it has no unit"));
  EXPECT_TRUE(holds(try_file(start + "[how\n"), "no valid TOML"));
  EXPECT_TRUE(holds(try_file("[what]\nfolders = [\"srv\"]\n"), "not an absolute path"));
  EXPECT_TRUE(holds(try_file("[where]\ndestinations = [\"/x\"]\n"), "[what] folders"));
  EXPECT_TRUE(
      holds(try_file(start + "[protect]\npassphrase = \"secret\"\n"), "where the passphrase comes from"));
  EXPECT_EQ(desk({"job", "define", "a/b", "--what-folders", "/srv", "--where-destinations", "/x"}).exit, 2);
  EXPECT_EQ(desk({"job", "define", "a"}).exit, 2);
}

TEST(BadInput, ErrorsAreJsonWhenAskedFor) {
  Desk desk;
  auto json = nlohmann::json::parse(desk({"points", "nothing", "--json"}).out);
  EXPECT_EQ(json["kestrum"], "error");
  EXPECT_EQ(json["exit"], 2);
}

}  // namespace
}  // namespace kestrum::test
