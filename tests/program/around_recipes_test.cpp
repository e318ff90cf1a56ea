// The guide's recipes for commands around a run, as they stand there: against real databases that are written
// to meanwhile, and a real snapshot.
#include <gmock/gmock.h>

#include <atomic>
#include <thread>

#include "program/desk.hpp"
#include "support/mounts.hpp"
#include "support/recipe.hpp"

namespace kestrum::test {
namespace {

class AroundRecipes : public testing::Test {
 protected:
  void define(const std::string& name, const std::string& srv) {
    std::string text = recipe(read_file(std::string(KESTRUM_SOURCE) + "/docs/GUIDE.md"), name);
    ASSERT_NE(text, "") << "no recipe " << name;
    text = replaced(text, "/srv", srv);
    text = replaced(text, "label:tern-1", desk_.drive());
    text = replaced(text, "[where]\n", "[where]\nsame-disk = \"accept\"\n");
    text = replaced(text, "passphrase = \"file:/etc/kestrum/wardens.pass\"", "encryption = \"none\"");
    write_file(desk_.folder / "job.toml", text);
    Ran ran = desk_({"job", "define", "wardens", "--from", desk_.folder / "job.toml"});
    ASSERT_EQ(ran.exit, 0) << ran.err;
  }
  // Where what was saved of `folder` is restored to.
  std::string restored(const std::string& folder) {
    const std::string target = desk_.folder / "restored";
    Ran restore = desk_({"restore", "wardens", "--to", target, "--layout", "path", folder});
    EXPECT_LE(restore.exit, 1) << restore.err;
    return target + folder;
  }
  static std::string said(const std::string& command) {
    std::string out;
    FILE* pipe = popen(command.c_str(), "r");
    char buffer[256];
    for (std::size_t got = 0; (got = fread(buffer, 1, sizeof buffer, pipe)) > 0;) out.append(buffer, got);
    pclose(pipe);
    return out;
  }
  static bool shell(const std::string& command) { return std::system(command.c_str()) == 0; }

  Desk desk_;
};

TEST_F(AroundRecipes, ASqliteDatabaseThatIsWrittenToMeanwhileComesBackWhole) {
  const std::string srv = desk_.source(), db = srv + "/sightings/sightings.db";
  std::filesystem::create_directories(srv + "/sightings");
  ASSERT_TRUE(shell("sqlite3 '" + db +
                    "' \"PRAGMA journal_mode=WAL; CREATE TABLE s(n INT, twice INT);\" > /dev/null"));
  define("sqlite", srv);
  std::atomic<bool> stop{false};
  std::thread writer([&] {
    for (int n = 0; !stop; ++n)
      shell("sqlite3 '" + db + "' \"PRAGMA busy_timeout=5000; BEGIN; INSERT INTO s VALUES(" +
            std::to_string(n) + ", 0); UPDATE s SET twice = 2 * n; COMMIT;\" > /dev/null 2>&1");
  });
  std::this_thread::sleep_for(std::chrono::milliseconds(500));
  Ran run = desk_({"run", "wardens"});
  stop = true;
  writer.join();
  EXPECT_EQ(run.exit, 0) << run.err;
  const std::string there = restored(srv + "/sightings");
  EXPECT_FALSE(std::filesystem::exists(there + "/sightings.db"));
  EXPECT_EQ(said("sqlite3 '" + there +
                 "/sightings.copy' 'PRAGMA integrity_check; SELECT COUNT(*) > 0, "
                 "SUM(twice) = 2 * SUM(n) FROM s;'"),
            "ok\n1|1\n");
  // One that somebody holds for a moment is waited for.
  ASSERT_TRUE(shell("sqlite3 '" + db + "' 'PRAGMA journal_mode=DELETE' > /dev/null"));
  ASSERT_TRUE(shell("sqlite3 '" + db + "' 'BEGIN EXCLUSIVE' '.shell sleep 2' 'COMMIT' & sleep 0.5"));
  run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0) << run.err;
  // Without its database the run gives up and says so.
  std::filesystem::remove(db);
  std::filesystem::remove(db + "-wal");
  run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 3);
  EXPECT_THAT(run.err, testing::HasSubstr("the command before the run failed"));
}

TEST_F(AroundRecipes, APostgresqlDatabaseIsDumpedAndComesBack) {
  if (geteuid() != 0) GTEST_SKIP() << "a database server of the user postgres needs root";
  // A server of its own, reached by a socket in the test's folder.
  const std::string place = desk_.folder / "pg", srv = desk_.source();
  std::filesystem::create_directories(place);
  std::filesystem::create_directories(srv + "/dumps");
  ASSERT_TRUE(
      shell("chmod 755 '" + std::string(desk_.folder.path()) + "' && chown postgres '" + place + "'"));
  const std::string programs = said("printf %s \"$(ls -d /usr/lib/postgresql/*/bin | tail -1)\"");
  const auto as_postgres = [&](const std::string& words) {
    return shell("cd / && runuser -u postgres -- " + words + " > '" + place + "/said' 2>&1");
  };
  const auto server = [&](const std::string& what) {
    return as_postgres(programs + "/pg_ctl -w -D '" + place + "/data' -l '" + place + "/log' -o \"-k '" +
                       place + "' -c listen_addresses=''\" " + what);
  };
  std::filesystem::permissions(place, std::filesystem::perms::all);
  ASSERT_TRUE(as_postgres(programs + "/initdb -D '" + place + "/data'")) << read_file(place + "/said");
  ASSERT_TRUE(server("start")) << read_file(place + "/said");
  const std::string psql = "psql -h '" + place + "' -v ON_ERROR_STOP=1 -qAt ";
  EXPECT_TRUE(as_postgres("createdb -h '" + place + "' sightings"));
  EXPECT_TRUE(as_postgres(psql +
                          "-c \"CREATE TABLE s AS SELECT n, 2 * n AS twice FROM generate_series(1, 1000) n\" "
                          "sightings"));
  define("postgresql", srv);
  desk_.program.environment["PGHOST"] = place;
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0) << run.err;
  const std::string there = restored(srv + "/dumps");
  EXPECT_TRUE(as_postgres("createdb -h '" + place + "' again"));
  EXPECT_TRUE(shell("cat '" + there + "/sightings.dump' | runuser -u postgres -- pg_restore -h '" + place +
                    "' -d again"));
  EXPECT_EQ(said("cd / && runuser -u postgres -- " + psql + "-c 'SELECT COUNT(*), SUM(twice) FROM s' again"),
            "1000|1001000\n");
  EXPECT_TRUE(server("stop"));
  // The server is down: the dump of before stays, and the run says why it gives up.
  run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 3);
  EXPECT_THAT(run.err, testing::HasSubstr("connection"));
  EXPECT_GT(std::filesystem::file_size(srv + "/dumps/sightings.dump"), 1000u);
}

TEST_F(AroundRecipes, ASnapshotHoldsOneMomentAndIsGoneAfterwards) {
  if (!may_mount()) GTEST_SKIP() << "mounting needs root";
  const std::string image = desk_.folder / "srv.img", srv = desk_.folder / "srv";
  ASSERT_TRUE(shell("truncate -s 256M '" + image + "' && mkfs.btrfs -q '" + image + "'"));
  Mounted disk(image, srv, "-o loop");
  if (!disk.good()) GTEST_SKIP() << "this kernel has no btrfs";
  write_file(srv + "/ringing/list.csv", "3,Gannet\n");
  define("snapshot", srv);
  // What a killed run has left behind is in nobody's way.
  ASSERT_TRUE(shell("btrfs subvolume snapshot -r '" + srv + "' '" + srv + "/.moment' > /dev/null"));
  write_file(srv + "/ringing/list.csv", "4,Gannet\n");
  Ran run = desk_({"run", "wardens"});
  EXPECT_EQ(run.exit, 0) << run.err;
  EXPECT_FALSE(std::filesystem::exists(srv + "/.moment"));
  EXPECT_EQ(read_file(restored(srv + "/.moment/ringing") + "/list.csv"), "4,Gannet\n");
}

}  // namespace
}  // namespace kestrum::test
