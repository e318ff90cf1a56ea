// A hundred restores drawn by lot (points, picks, layouts, clashes, maps, sinks), each held against a plain
// model of what must lie there afterwards.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include <algorithm>
#include <random>
#include <set>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "support/workbench.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

// Path below the target to what is there.
using Disk = std::map<std::string, Seen>;

struct Scenario {
  Sequence point = 0;
  std::vector<std::string> picks;  // below the source; "" is the source itself
  Layout layout = Layout::picked;
  Clash clash = Clash::keep_both;
  RestoreInto into = RestoreInto::folder;
  std::string ending;  // of an archive file
  std::string map_from, map_to;
  std::vector<std::string> without;  // below what is picked
};

bool is_within(const std::string& path, const std::string& folder) {
  return folder.empty() || path == folder || path.starts_with(folder + "/");
}

std::string in_words(const Scenario& one) {
  std::string text = "point " + std::to_string(one.point) + ", layout " +
                     std::to_string(static_cast<int>(one.layout)) + ", " +
                     std::string(clash_name(one.clash)) + one.ending + ", map " + one.map_from + "=" +
                     one.map_to + ", picks";
  for (const std::string& pick : one.picks) text += " '" + printable(pick) + "'";
  text += ", without";
  for (const std::string& path : one.without) text += " '" + printable(path) + "'";
  return text;
}

class Model : public testing::Test {
 protected:
  void SetUp() override {
    TreeMaker maker(bench_.source(), 29);
    maker.grow(120);
    for (int i = 0; i < 4; ++i) {
      seen_[bench_.run_good()] = take_snapshot(bench_.source());
      maker.churn(20);
    }
    LookSession subject = bench_.subject();
    for (const FoundSet& set : subject.sets()) started_[set.folder.sequence] = set.facts().started;
    root_ = bench_.source().substr(1);
  }
  unsigned random(unsigned below) { return static_cast<unsigned>(engine_() % below); }

  Scenario drawn() {
    Scenario one;
    one.point = std::next(seen_.begin(), random(static_cast<unsigned>(seen_.size())))->first;
    const Snapshot& snapshot = seen_.at(one.point);
    for (unsigned n = 1 + random(4); n > 0; --n)
      one.picks.push_back(std::next(snapshot.begin(), random(static_cast<unsigned>(snapshot.size())))->first);
    if (random(6) == 0) one.picks = {""};
    const auto inside = [&](const std::string& path) {
      return std::any_of(one.picks.begin(), one.picks.end(),
                         [&](const std::string& pick) { return path != pick && is_within(path, pick); });
    };
    for (unsigned n = random(3) == 0 ? 6 : 0; n > 0; --n) {
      const std::string& path =
          std::next(snapshot.begin(), random(static_cast<unsigned>(snapshot.size())))->first;
      if (inside(path) && std::find(one.picks.begin(), one.picks.end(), path) == one.picks.end())
        one.without.push_back(path);
    }
    one.layout = static_cast<Layout>(random(3));
    one.clash = static_cast<Clash>(random(4));
    const unsigned sink = random(5);
    if (sink == 0) one.ending = ".tar.zst";
    if (sink == 1) one.ending = ".zip";
    if (!one.ending.empty()) one.into = RestoreInto::archive;
    if (one.layout == Layout::path && random(2) == 0) {
      one.map_from = bench_.source();
      one.map_to = "/home/a.berg/kept";
    }
    return one;
  }

  // In the order of a catalog.
  static bool before(const std::string& a, const std::string& b) {
    return *TreePath::from_joined(a) < *TreePath::from_joined(b);
  }

  std::string place_of(const Scenario& one, const std::string& path, const std::string& pick) const {
    const std::string name = path.substr(path.rfind('/') == std::string::npos ? 0 : path.rfind('/') + 1);
    const std::string full = path.empty() ? root_ : root_ + "/" + path;
    if (one.layout == Layout::flat) return name;
    if (one.layout == Layout::path)
      return one.map_from.empty() ? full : one.map_to.substr(1) + full.substr(one.map_from.size() - 1);
    const std::string whole = pick.empty() ? root_ : root_ + "/" + pick;
    return full.substr(whole.rfind('/') == std::string::npos ? 0 : whole.rfind('/') + 1);
  }

  // The nearest mark above it, or on it, says so.
  static bool is_held(const Scenario& one, const std::string& path) {
    std::size_t longest = 0;
    bool held = false;
    const auto look = [&](const std::vector<std::string>& marks, bool takes) {
      for (const std::string& mark : marks) {
        if (!is_within(path, mark) || mark.size() + 1 < longest) continue;
        longest = mark.size() + 1;
        held = takes;
      }
    };
    look(one.picks, true);
    look(one.without, false);
    return held;
  }

  // What is restored: its place as it is wanted, in order.
  std::vector<std::pair<std::string, Seen>> wanted(const Scenario& one) const {
    std::vector<std::string> picks = one.picks;
    std::sort(picks.begin(), picks.end(), before);
    std::vector<std::pair<std::string, Seen>> out;
    std::vector<std::string> done;
    for (const std::string& pick : picks) {
      if (std::any_of(done.begin(), done.end(),
                      [&](const std::string& folder) { return is_within(pick, folder); }))
        continue;
      done.push_back(pick);
      std::vector<std::string> paths;
      for (const auto& [path, what] : seen_.at(one.point)) {
        if (is_within(path, pick) && is_held(one, path)) paths.push_back(path);
      }
      std::sort(paths.begin(), paths.end(), before);
      for (const std::string& path : paths) {
        const Seen& what = seen_.at(one.point).at(path);
        if (one.layout == Layout::flat && what.type == 'd') continue;
        out.emplace_back(place_of(one, path, pick), what);
      }
    }
    return out;
  }

  static std::string stamped(const std::string& place, const std::string& stamp, unsigned n) {
    const std::size_t slash = place.rfind('/');
    const std::string folder = slash == std::string::npos ? "" : place.substr(0, slash + 1);
    const std::string name = place.substr(folder.size());
    std::size_t dot = name.rfind('.');
    if (dot == std::string::npos || dot == 0) dot = name.size();
    return folder + name.substr(0, dot) + " (from " + stamp + (n == 1 ? ")" : " " + std::to_string(n) + ")") +
           name.substr(dot);
  }

  // Lays some files in the way, and says what must be there in the end.
  Disk expected(const Scenario& one, const std::string& target) {
    std::string stamp = local_text(started_.at(one.point));
    std::replace(stamp.begin(), stamp.end(), ':', '-');
    Disk disk;
    std::map<std::string, Seen> there;  // before the restore
    const auto all = wanted(one);
    for (const auto& [place, what] : all) {
      if (what.type != 'f' || one.into != RestoreInto::folder || random(4) != 0 || there.contains(place))
        continue;
      Seen other = what;
      if (random(3) != 0) other.content = "what was there";
      other.seconds += random(3) == 0 ? 1000 : -1000;
      other.mode = 0640;
      other.attributes.clear();
      if (one.layout == Layout::flat && place.find('/') != std::string::npos) continue;
      fs::create_directories((fs::path(target) / place).parent_path());
      write_file(target + "/" + place, other.content);
      chmod((target + "/" + place).c_str(), 0640);
      const timespec times[2] = {{0, UTIME_OMIT}, {other.seconds, other.nanoseconds}};
      utimensat(AT_FDCWD, (target + "/" + place).c_str(), times, 0);
      there[place] = other;
      disk[place] = other;
    }
    std::set<std::string> ours;
    const auto free_name = [&](const std::string& place) {
      unsigned n = 1;
      while (disk.contains(stamped(place, stamp, n))) ++n;
      return stamped(place, stamp, n);
    };
    for (const auto& [place, what] : all) {
      if (what.type == 'd') {
        disk.try_emplace(place, what);
        continue;
      }
      std::string at = place;
      if (ours.contains(place)) {
        at = free_name(place);
      } else if (const auto old = there.find(place); old != there.end() && disk.contains(place)) {
        const bool same = old->second.content == what.content && what.type == 'f';
        const bool newer = std::pair(old->second.seconds, old->second.nanoseconds) <
                           std::pair(what.seconds, what.nanoseconds);
        if (one.clash == Clash::keep_existing || (one.clash == Clash::keep_newer && !newer) ||
            (one.clash == Clash::keep_both && same))
          continue;
        if (one.clash == Clash::keep_both) at = free_name(place);
        if (at == place) there.erase(place);
      }
      disk[at] = what;
      ours.insert(at);
    }
    return disk;
  }

  void restore_as(const Scenario& one, const std::string& target) {
    RestoreRequest request;
    for (const std::string& pick : one.picks)
      request.paths.push_back(*TreePath::parse(bench_.source() + "/" + pick));
    for (const std::string& path : one.without)
      request.without.push_back(*TreePath::parse(bench_.source() + "/" + path));
    request.target = target;
    request.layout = one.layout;
    request.clash = one.clash;
    request.into = one.into;
    request.with_owners = request.with_set_id = true;
    if (!one.map_from.empty()) request.map = {{*TreePath::parse(one.map_from), *TreePath::parse(one.map_to)}};
    LookSession subject = bench_.subject();
    RunControl control;
    last_ = restore(subject, {PointWish::By::number, one.point, {}}, request, *bench_.observer, control, {});
  }

  // Differences in words; folders above what was wanted, which the model does not know, are left out.
  std::string differences(const Disk& expected, const std::string& target, bool all) const {
    std::string out;
    const Snapshot found = take_snapshot(target);
    for (const auto& [path, what] : expected) {
      const auto other = found.find(path);
      if (other == found.end()) {
        out += "missing: " + printable(path) + "\n";
        continue;
      }
      const Seen& is = other->second;
      if (is.type != what.type || is.content != what.content) out += "another: " + printable(path) + "\n";
      const bool file = what.type == 'f';
      if (file && all &&
          (is.mode != what.mode || is.seconds != what.seconds || is.nanoseconds != what.nanoseconds))
        out += "other mode or time: " + printable(path) + "\n";
    }
    for (const auto& [path, what] : found) {
      if (what.type != 'd' && !expected.contains(path)) out += "too much: " + printable(path) + "\n";
    }
    return out;
  }

  // A .zip holds no FIFOs, and names in UTF-8 only.
  static Disk as_zipped(const Disk& disk) {
    Disk out;
    for (const auto& [path, what] : disk) {
      if (what.type != 'p') out[is_utf8(path) ? path : printable(path)] = what;
    }
    return out;
  }

  Workbench bench_;
  std::mt19937 engine_{41};
  std::map<Sequence, Snapshot> seen_;
  std::map<Sequence, Instant> started_;
  std::string root_;
  RestoreResult last_;
};

// As other programs open it.
void unpack(const std::string& file, const std::string& folder) {
  fs::create_directories(folder);
  const std::string command =
      file.ends_with(".zip")
          ? "/usr/bin/python3 '" KESTRUM_SOURCE "/tests/support/unzip.py' '" + file + "' '" + folder + "'"
          : "tar --zstd -xpf '" + file + "' -C '" + folder + "' 2>/dev/null";
  ASSERT_EQ(std::system(command.c_str()), 0) << command;
}

TEST_F(Model, AHundredRestores) {
  std::map<std::string, int> kinds;
  for (int round = 0; round < 100; ++round) {
    const Scenario one = drawn();
    SCOPED_TRACE("round " + std::to_string(round) + ": " + in_words(one));
    const std::string target = bench_.path("out");
    fs::remove_all(target);
    fs::create_directories(target);
    Disk disk = expected(one, target);
    const bool archive = one.into == RestoreInto::archive;
    restore_as(one, archive ? target + "/it" + one.ending : target);
    ++kinds[one.ending];
    if (archive) {
      unpack(target + "/it" + one.ending, target + "/unpacked");
      if (one.ending == ".zip") disk = as_zipped(disk);
    }
    const std::string wrong = differences(disk, archive ? target + "/unpacked" : target, !archive);
    EXPECT_EQ(wrong, "");
    if (archive || HasFailure()) continue;
    // The same again changes nothing, and finds everything there, but for what the flat layout puts side by
    // side.
    if (one.layout == Layout::flat) continue;
    const Snapshot once = take_snapshot(target);
    restore_as(one, target);
    EXPECT_EQ(compare_snapshots(once, take_snapshot(target)), "");
    EXPECT_EQ(last_.files, 0u);
  }
  EXPECT_EQ(kinds.size(), 3u);
}

}  // namespace
}  // namespace kestrum::test
