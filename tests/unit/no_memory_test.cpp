// A machine that remembers nothing, and a drive that somebody else could write: it believes what the way in
// proves. docs/ARCHITECTURE.md, "Who may do what".
#include <gmock/gmock.h>

#include "engine/job_rebuild.hpp"
#include "engine/passphrase_place.hpp"
#include "support/hostile_drive.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using testing::HasSubstr;
using testing::Not;

enum class Way { passphrase, recovery };

// The drive alone, seen from a home that is empty.
class NoMemory : public HostileDrive, public testing::WithParamInterface<Way> {
 protected:
  NoMemory() : here_(folder_ / "elsewhere", folder_ / "elsewhere/state"), key_(make_recovery_key()) {
    // The recovery key is a way into all that is there, and its public part stands in every seal.
    for (Sequence one : {1, 2}) give_recovery_key(one);
  }
  void give_recovery_key(Sequence point) {
    const Seal seal = seal_of(point);
    LookSession session = bench_.subject();
    const SecretKey master = session.keys().unlock(seal.keys, seal.core.facts.chain);
    Seal with = seal;
    with.keys.push_back(recovery_entry_of(master));
    ++with.generation;
    put_seals(*drive(), bench_.set_folder(point).substr(bench_.drive().size() + 1), with, master);
  }
  KeyEntry recovery_entry_of(const SecretKey& master) {
    if (recovery_.box.empty()) recovery_ = make_recovery_entry(master, key_.open);
    return recovery_;
  }

  LookSession look(const std::string& path = {}, bool with_home = true) const {
    SubjectOptions options;
    options.subject = path.empty() ? bench_.drive() : path;
    if (GetParam() == Way::recovery) {
      options.recovery_key = key_;
    } else {
      options.passphrase = "file:" + (folder_ / "pass");
    }
    return LookSession::open(with_home ? &here_ : nullptr, options);
  }
  // What a restore of the newest brings.
  std::string brought(LookSession session) const {
    const std::string target = folder_ / "brought";
    fs::remove_all(target);
    RestoreRequest request;
    request.paths = {*TreePath::parse(bench_.source())};
    request.target = target;
    Observer silent;
    RunControl control;
    restore(session, {}, request, silent, control, {});
    return read_file(target + "/source/ringing.csv");
  }
  // What is planted as the newest, in every way that needs no secret of the owner's.
  std::vector<ForgedSet> planted() const {
    std::vector<ForgedSet> all{forged(3), locked(3), forged(3), to_recovery(3)};
    all[2].keys = seal_of(2).keys;  // entries of the real chain around content of the planter's
    all[2].facts.chain = seal_of(2).core.facts.chain;
    ForgedSet over = to_recovery(3);  // in the place of the real chain
    over.facts.chain = seal_of(2).core.facts.chain;
    over.previous = seal_of(2).core_digest;
    all.push_back(over);
    return all;
  }
  // A key that the recovery key opens: whoever reads a seal can make one.
  ForgedSet to_recovery(Sequence sequence) const {
    ForgedSet set = forged(sequence);
    set.keys = {make_recovery_entry(set.master, key_.open)};
    return set;
  }
  void take_away(Sequence sequence) {
    for (const auto& entry : fs::directory_iterator(bench_.drive() + "/" + job_folder())) {
      if (parse_set_folder("", entry.path().filename().string()).value_or(SetFolder{}).sequence == sequence)
        fs::remove_all(entry.path());
    }
  }
  static std::optional<Error> refusal(const std::function<void()>& call) {
    try {
      call();
    } catch (const Error& error) {
      return error;
    }
    return std::nullopt;
  }

  Home here_;
  RecoveryKey key_;
  KeyEntry recovery_;
};

TEST_P(NoMemory, NothingPlantedComesBack) {
  ASSERT_EQ(brought(look()), "two");
  for (const ForgedSet& set : planted()) {
    plant(set);
    std::string content;
    const std::optional<Error> why = refusal([&] { content = brought(look()); });
    if (why) {
      // A recovery key cannot tell two origins apart: nothing comes back until somebody says which.
      EXPECT_EQ(GetParam(), Way::recovery);
      EXPECT_EQ(why->kind(), ErrorKind::key);
      EXPECT_THAT(why->what(), HasSubstr("2 origins"));
      EXPECT_EQ(brought(look(bench_.set_folder(2))), "two") << "the real ones can be named";
    } else {
      EXPECT_EQ(content, "two");
    }
    take_away(3);
  }
}

// Browsing, versions, checks: whatever looks, by the same list.
TEST_P(NoMemory, NothingPlantedIsShownAsOnesOwn) {
  for (const ForgedSet& set : planted()) {
    plant(set);
    LookSession session = look();
    const std::optional<Error> why = refusal([&] { session.proved_sets(); });
    if (!why) {
      EXPECT_EQ(session.sets().newest()->folder.sequence, 2);
      ASSERT_EQ(session.unproved_lines().size(), 1u);
      EXPECT_THAT(session.unproved_lines()[0], testing::AnyOf(HasSubstr("000003"), HasSubstr("point 3")));
      EXPECT_EQ(list_points(look(), nullptr).points.back().sequence, 2);
      OpenPoint point(session, {});
      EXPECT_EQ(point.facts().sequence, 2);
      VerifyRequest request;
      Observer silent;
      RunControl control;
      LookSession again = look();
      const VerifyResult checked = verify(again, request, SystemClock(), nullptr, silent, control);
      for (const PointVerdict& one : checked.points) EXPECT_TRUE(one.sequence != 3 || one.closed);
    } else {
      EXPECT_EQ(why->kind(), ErrorKind::key);
    }
    take_away(3);
  }
}

// A job's file that was planted names places where root would write and read, and turns encryption off.
TEST_P(NoMemory, NoPlantedJobIsRebuilt) {
  for (ForgedSet set : planted()) {
    plant(set);
    const std::optional<Error> why = refusal([&] {
      LookSession session = look();
      const JobOnDrive found = job_on_drive(session, "job");
      EXPECT_EQ(found.point.sequence, 2);
      EXPECT_EQ(found.job.encryption, Encryption::aes_256_gcm);
      EXPECT_EQ(found.authenticated, GetParam() == Way::passphrase);
      const RebuiltFile file = file_for_here(found, session, {});
      const Job job = parse_job("job", "job", file.text);
      EXPECT_EQ(job.encryption, Encryption::aes_256_gcm);
      EXPECT_EQ(job.passphrase, found.authenticated ? "file:" + (folder_ / "pass") : "ask");
    });
    if (why) {
      EXPECT_EQ(why->kind(), ErrorKind::key) << why->what();
    }
    take_away(3);
  }
}

// The real sets are gone, and only a planted one is there.
TEST_P(NoMemory, WhereOnlyPlantedOnesAreLeftNothingOfThemActs) {
  ForgedSet set = GetParam() == Way::recovery ? to_recovery(3) : forged(3);
  const std::string words =
      "[what]\nfolders = [\"/srv\"]\n[where]\ndestinations = [\"/mnt/theirs\"]\nattach = \"touch /tmp/x\"\n"
      "[protect]\nencryption = \"" +
      std::string(GetParam() == Way::recovery ? "aes-256-gcm" : "none") +
      "\"\npassphrase = \"file:/mnt/theirs/pass\"\nbait = [\"/srv/bait\"]\n[around]\nbefore = \"touch "
      "/tmp/y\"\n[tell]\npage = \"/etc/page.html\"\n";
  set.job_file = words;
  plant(set);
  for (Sequence real : {1, 2}) take_away(real);
  LookSession session = look();
  const JobOnDrive found = job_on_drive(session, "job");
  EXPECT_FALSE(found.authenticated);
  const RebuiltFile file = file_for_here(found, session, {});
  for (const char* theirs : {"theirs", "touch", "bait", "page"})
    EXPECT_THAT(file.text, Not(HasSubstr(theirs))) << file.text;
  ASSERT_EQ(file.notes.size(), 1u);
  for (const char* key : {"[protect] bait", "[around] before", "[tell] page", "[where] attach"})
    EXPECT_THAT(file.notes[0], HasSubstr(key));
}

INSTANTIATE_TEST_SUITE_P(Ways, NoMemory, testing::Values(Way::passphrase, Way::recovery),
                         [](const auto& way) {
                           return way.param == Way::passphrase ? "Passphrase" : "Recovery";
                         });

// Points from before the job was encrypted are named by those that came after: they count on an empty home.
TEST(NoMemoryOfBefore, ClearPointsThatAnEncryptedOneNamesCount) {
  Workbench bench;
  TempFolder folder;
  write_file(bench.source() + "/ringing.csv", "clear");
  bench.run_good();
  const std::string text = bench.home().load_job("job").text;
  write_file(folder / "pass", "tern in the fog\n");
  chmod((folder / "pass").c_str(), 0600);
  bench.set_job(text.substr(0, text.find("[protect]")) +
                "[protect]\npassphrase = \"file:" + (folder / "pass") + "\"\n");
  write_file(bench.source() + "/ringing.csv", "closed");
  bench.run_good();
  SubjectOptions options;
  options.subject = bench.drive();
  options.passphrase = "file:" + (folder / "pass");
  const Home nowhere(folder / "none", folder / "none/state");
  LookSession session = LookSession::open(&nowhere, options);
  std::vector<Sequence> counted;
  for (const FoundSet& set : session.proved_sets()) {
    if (set.sealed()) counted.push_back(set.folder.sequence);
  }
  EXPECT_EQ(counted, (std::vector<Sequence>{1, 2}));
  EXPECT_TRUE(session.unproved_lines().empty());
  EXPECT_EQ(job_on_drive(session, "job").point.sequence, 2)
      << "the newest, beside clear ones that are proved";
}

TEST(PassphrasePlace, WithTheSetsItIsRefused) {
  Workbench bench("");
  write_file(bench.drive() + "/keys/pass", "tern in the fog\n");
  chmod((bench.drive() + "/keys/pass").c_str(), 0600);
  fs::create_directory_symlink(bench.drive() + "/keys", bench.path("linked"));
  const std::string text = bench.home().load_job("job").text;
  for (const std::string& file : {bench.drive() + "/keys/pass", bench.path("linked/pass")}) {
    const Job job = parse_job("job", "job", text + "[protect]\npassphrase = \"file:" + file + "\"\n");
    EXPECT_TRUE(passphrase_at_destination(job)) << file;
  }
  const Job job =
      parse_job("job", "job", text + "[protect]\npassphrase = \"file:" + bench.path("pass") + "\"\n");
  EXPECT_FALSE(passphrase_at_destination(job));
}

}  // namespace
}  // namespace kestrum::test
