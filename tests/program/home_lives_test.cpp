// Random lives of several homes at one place: cloned, set back, renamed, killed. Nobody's points go but by
// whoever the folder belongs to, and each refusal names ways on that work.
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <csignal>
#include <nlohmann/json.hpp>
#include <random>

#include "support/program.hpp"
#include "support/temp_folder.hpp"
#include "support/tree.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::json;

constexpr int refused = 8, done = 0;

unsigned from_environment(const char* name, unsigned usual) {
  const char* text = std::getenv(name);
  return text != nullptr ? static_cast<unsigned>(std::strtoul(text, nullptr, 10)) : usual;
}

// What a home can know of a folder: up to which point it has made or met what lies there, and on which
// machine.
struct Memory {
  std::map<std::string, int> newest;  // by folder
  std::string machine;
  bool ran = false;
};

class Life {
 public:
  explicit Life(unsigned seed) : chance_(seed), encrypted_(seed % 3 == 0) {
    fs::create_directories(drive());
    const std::size_t homes = 2 + seed % 3;
    for (std::size_t i = 0; i < homes; ++i) begin(i);
  }

  // Gives what went against the rules; empty: nothing.
  std::string live(unsigned steps) {
    for (unsigned step = 0; step < steps && wrong_.empty(); ++step) {
      const std::size_t who = pick(homes_.size());
      switch (pick(10)) {
        case 0:
          clone(pick(homes_.size()), who);
          break;
        case 1:
          keep_copy(who);
          break;
        case 2:
          set_back(who);
          break;
        case 3:
          rename_machine(who);
          break;
        case 4:
          act(who, "prune", {"prune", homes_[who].job, "--quiet"});
          break;
        case 5:
          run_killed(who);
          break;
        default:
          run(who);
      }
    }
    return wrong_.empty() ? "" : wrong_ + "\n  " + story_;
  }
  unsigned refusals() const { return refusals_; }
  unsigned runs() const { return runs_; }

 private:
  struct Desk {
    Program program{KESTRUM_BINARY};
    std::string folder, job = "wardens", machine = "skerry-1";
    Memory memory;
    std::optional<std::pair<Memory, std::string>> copy;  // and the job's name in it
    int version = 0;
  };

  std::size_t pick(std::size_t many) { return chance_() % many; }
  std::string drive() const { return place_ / "drive"; }
  void fail(const std::string& what) {
    if (wrong_.empty()) wrong_ = what;
  }
  void tell(std::size_t who, const std::string& what) { story_ += std::to_string(who) + " " + what + "; "; }

  void begin(std::size_t i) {
    Desk& desk = homes_.emplace_back();
    desk.folder = place_ / ("desk-" + std::to_string(i));
    desk.memory.machine = std::string(32, static_cast<char>('1' + i));
    desk.program.environment["KESTRUM_HOME"] = desk.folder + "/home";
    name_machine(desk, desk.machine);
    write_file(desk.folder + "/pass", "tern in the fog\n");
    fs::permissions(desk.folder + "/pass", fs::perms::owner_read | fs::perms::owner_write);
    change_files(desk);
    std::vector<std::string> words{"job",
                                   "define",
                                   desk.job,
                                   "--what-folders",
                                   desk.folder + "/files",
                                   "--where-destinations",
                                   drive(),
                                   "--same-disk",
                                   "--keep-at-least",
                                   "1 point",
                                   "--keep-points",
                                   i == 0 ? "100 points" : "2 points",
                                   "--how-kind",
                                   "full"};
    words.push_back(encrypted_ ? "--protect-passphrase" : "--protect-encryption");
    words.push_back(encrypted_ ? "file:" + desk.folder + "/pass" : "none");
    if (desk.program.run(words).exit != done) fail("a job could not be defined");
  }
  void name_machine(Desk& desk, const std::string& name) {
    desk.machine = name;
    desk.program.environment["KESTRUM_MACHINE"] = name;
    desk.program.environment["KESTRUM_MACHINE_ID"] = desk.memory.machine;
  }
  static void change_files(Desk& desk) {
    write_file(desk.folder + "/files/list.csv", desk.folder + " " + std::to_string(++desk.version));
  }

  // Points by folder: number and when it was made there, which no other has.
  using Lying = std::map<std::string, std::map<int, std::string>>;
  Lying lying() const {
    Lying out;
    for (const auto& entry : fs::recursive_directory_iterator(drive())) {
      if (entry.path().filename() != "seal.json") continue;
      const fs::path set = entry.path().parent_path();
      const std::string text = read_file(entry.path());
      const std::size_t at = text.find("\"set\":\"");
      out[set.parent_path().lexically_relative(drive())][std::stoi(set.filename().string())] =
          text.substr(at + 7, 32);
    }
    return out;
  }
  static int newest_in(const Lying& all, const std::string& folder) {
    const auto found = all.find(folder);
    return found == all.end() || found->second.empty() ? 0 : found->second.rbegin()->first;
  }

  // What this home did must have been its own to do.
  void settle(std::size_t who, const Lying& before, const std::string& what, bool took_over = false) {
    Desk& desk = homes_[who];
    const Lying after = lying();
    for (const auto& [folder, points] : before) {
      const auto now = after.find(folder);
      const bool changed = now == after.end() || now->second != points;
      if (!changed) continue;
      // Nobody else has made a point there since this home knew what lay there.
      const auto known = desk.memory.newest.find(folder);
      if (!took_over && (known == desk.memory.newest.end() || known->second != newest_in(before, folder)))
        fail("home " + std::to_string(who) + " changed " + folder + " by " + what);
      if (who == 0) {
        for (const auto& [number, set] : points) {
          if (now == after.end() || !now->second.contains(number) || now->second.at(number) != set)
            fail("home 0 lost point " + std::to_string(number) + " by " + what);
        }
      }
    }
    for (const auto& [folder, points] : after) {
      const auto was = before.find(folder);
      if (was != before.end() && was->second == points) continue;
      desk.memory.newest[folder] = newest_in(after, folder);
      desk.memory.ran = true;
    }
  }

  Ran act(std::size_t who, const std::string& what, const std::vector<std::string>& words) {
    const Lying before = lying();
    const Ran ran = homes_[who].program.run(words);
    tell(who, what + " " + std::to_string(ran.exit));
    settle(who, before, what);
    return ran;
  }

  void run(std::size_t who) {
    Desk& desk = homes_[who];
    change_files(desk);
    ++runs_;
    const Ran ran = act(who, "run", {"run", desk.job, "--quiet", "--same-disk"});
    if (ran.exit == done || ran.exit == 1) return expect_own_files(who);
    if (ran.exit != refused) return fail("a run ended with " + std::to_string(ran.exit) + ": " + ran.err);
    ++refusals_;
    go_on(who, ran.err);
  }

  void expect_own_files(std::size_t who) {
    Desk& desk = homes_[who];
    const std::string back = desk.folder + "/back";
    fs::remove_all(back);
    const Ran ran = desk.program.run(
        {"restore", desk.job, desk.folder + "/files", "--to", back, "--layout", "flat", "--quiet"});
    if (ran.exit != done || read_file(back + "/list.csv") != read_file(desk.folder + "/files/list.csv"))
      fail("home " + std::to_string(who) + " does not get its own files back: " + ran.err);
  }

  // One of the ways that the refusal names, as it is said there.
  void go_on(std::size_t who, const std::string& said) {
    Desk& desk = homes_[who];
    std::vector<std::vector<std::string>> ways;
    for (std::size_t at = said.find("kestrum "); at != std::string::npos;
         at = said.find("kestrum ", at + 1)) {
      const std::size_t end = std::min(said.find('\n', at), said.find(';', at));
      std::vector<std::string> words;
      std::size_t from = at + 8;
      while (from < end && from < said.size()) {
        const std::size_t to = std::min({said.find(' ', from), end, said.size()});
        words.push_back(said.substr(from, to - from));
        from = to + 1;
      }
      ways.push_back(words);
      at = std::min(said.find('\n', at), said.size() - 1);  // what follows on the line belongs to it
    }
    if (ways.size() < 3) return fail("a refusal names no three ways: " + said);
    std::vector<std::string> way = ways[pick(3)];
    const std::string name = "job-" + std::to_string(++names_);
    std::replace(way.begin(), way.end(), std::string("NAME"), name);
    const Lying before = lying();
    const Ran ran = desk.program.run(way);
    const std::string verb = way[0] + (way.size() > 1 ? " " + way[1] : "");
    tell(who, "went on by " + verb + " " + std::to_string(ran.exit));
    if (ran.exit != done && ran.exit != 1)
      return fail("the way on '" + verb + "' ended with " + std::to_string(ran.exit) + ": " + ran.err);
    if (way.back() == "--beside") {
      settle(who, before, "beside");
      return expect_own_files(who);
    }
    if (verb == "job rebuild") {
      const std::string folder = fs::path(way[std::find(way.begin(), way.end(), "--from") - way.begin() + 1])
                                     .lexically_relative(drive());
      desk.memory.newest[folder] = newest_in(lying(), folder);
      desk.memory.machine = desk.program.environment["KESTRUM_MACHINE_ID"];
    }
    if (verb == "job copy") desk.program.run({"job", "remove", desk.job});
    if (way.back() == name) desk.job = name;
    const Ran again = act(who, "run after it", {"run", desk.job, "--quiet", "--same-disk"});
    if (again.exit != done && again.exit != 1)
      return fail("after '" + verb + "' the run ended with " + std::to_string(again.exit) + ": " + again.err);
    expect_own_files(who);
  }

  void run_killed(std::size_t who) {
    Desk& desk = homes_[who];
    change_files(desk);
    const Lying before = lying();
    const pid_t child = desk.program.start({"run", desk.job, "--quiet", "--same-disk"});
    usleep(static_cast<useconds_t>(pick(encrypted_ ? 300000 : 120000)));
    kill(child, SIGKILL);
    Program::wait(child);
    tell(who, "killed");
    settle(who, before, "a killed run");
  }

  // `to` becomes a copy of `from`, on a machine of its own or, where nobody gave it another identity, not.
  void clone(std::size_t from, std::size_t to) {
    if (from == to || to == 0) return;
    Desk &source = homes_[from], &target = homes_[to];
    fs::remove_all(target.folder + "/home");
    fs::copy(source.folder + "/home", target.folder + "/home", fs::copy_options::recursive);
    const std::string file = target.folder + "/home/jobs/" + source.job + ".toml";
    std::string text = read_file(file);
    for (std::size_t at = 0; (at = text.find(source.folder, at)) != std::string::npos;)
      text.replace(at, source.folder.size(), target.folder);
    write_file(file, text);
    const bool same_identity = pick(2) == 0;
    target.job = source.job;
    target.memory = source.memory;
    if (!same_identity) target.memory.machine = std::string(32, static_cast<char>('a' + pick(6)));
    target.copy.reset();
    name_machine(target, pick(2) == 0 ? source.machine : target.machine);
    // What was known on another machine is no knowledge of this one.
    if (!same_identity) target.memory.newest.clear();
    tell(to, "became a copy of " + std::to_string(from) + (same_identity ? "" : " on another machine"));
  }

  void keep_copy(std::size_t who) {
    Desk& desk = homes_[who];
    fs::remove_all(desk.folder + "/kept");
    fs::copy(desk.folder + "/home", desk.folder + "/kept", fs::copy_options::recursive);
    desk.copy.emplace(desk.memory, desk.job);
    tell(who, "was copied");
  }
  void set_back(std::size_t who) {
    Desk& desk = homes_[who];
    if (!desk.copy) return;
    fs::remove_all(desk.folder + "/home");
    fs::copy(desk.folder + "/kept", desk.folder + "/home", fs::copy_options::recursive);
    const std::string machine = desk.program.environment["KESTRUM_MACHINE_ID"];
    const bool here = desk.copy->first.machine == machine;
    desk.memory = desk.copy->first;
    desk.memory.machine = machine;
    if (!here) desk.memory.newest.clear();
    desk.job = desk.copy->second;
    tell(who, "was set back");
  }
  void rename_machine(std::size_t who) {
    name_machine(homes_[who], "skerry-" + std::to_string(1 + pick(2)));
    tell(who, "is called " + homes_[who].machine);
  }

  std::mt19937 chance_;
  bool encrypted_;
  TempFolder place_;
  std::vector<Desk> homes_;
  std::string wrong_, story_;
  unsigned refusals_ = 0, runs_ = 0, names_ = 0;
};

TEST(HomeLives, NobodyTouchesWhatIsAnothers) {
  const unsigned lives = from_environment("KESTRUM_LIVES", 8), first = from_environment("KESTRUM_LIFE", 1);
  unsigned runs = 0, refusals = 0;
  for (unsigned seed = first; seed < first + lives; ++seed) {
    Life life(seed);
    const std::string wrong = life.live(16);
    runs += life.runs();
    refusals += life.refusals();
    EXPECT_EQ(wrong, "") << "life " << seed;
  }
  EXPECT_GT(refusals, 0u);
  std::printf("%u lives, %u runs, %u refused and gone on with\n", lives, runs, refusals);
}

}  // namespace
}  // namespace kestrum::test
