#include "engine/drill.hpp"

#include <fcntl.h>
#include <sys/file.h>
#include <sys/stat.h>

#include <algorithm>
#include <filesystem>
#include <random>

#include "archive/read_ahead.hpp"
#include "base/clock_seconds.hpp"
#include "base/random.hpp"
#include "base/text.hpp"
#include "engine/disk_today.hpp"
#include "engine/drill_trials.hpp"
#include "engine/restore_pace.hpp"
#include "engine/same_content.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

// A folder of our own that nobody else may look into, and that goes with this. What killed drills have left
// goes, too.
class ScratchFolder {
 public:
  explicit ScratchFolder(const std::string& in) {
    clear_left(in);
    path_ = in + "/" + std::string(start) + to_hex(random_bytes(8));
    if (mkdir(path_.c_str(), 0700) != 0) throw system_error("create", path_, errno);
    held_ = hold(path_);
  }
  ~ScratchFolder() {
    if (!path_.empty()) clear(path_);
  }
  // It stays. Returns what it is called then.
  std::string keep() {
    const std::string path = std::exchange(path_, {});
    if (rename(path.c_str(), (path + std::string(kept)).c_str()) != 0)
      throw system_error("rename", path, errno);
    return path + std::string(kept);
  }
  ScratchFolder(const ScratchFolder&) = delete;
  ScratchFolder& operator=(const ScratchFolder&) = delete;
  const std::string& path() const { return path_; }

 private:
  static constexpr std::string_view start = "drill-", kept = ".kept";

  static FileHandle hold(const std::string& path) {
    FileHandle folder(open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW));
    if (folder && flock(folder.get(), LOCK_EX | LOCK_NB) != 0) folder = FileHandle();
    return folder;
  }
  // Folders that do not let anybody in were restored so.
  static void clear(const std::string& path) {
    std::error_code code;
    for (fs::recursive_directory_iterator it(path, code), end; !code && it != end; it.increment(code)) {
      if (it->is_directory(code) && !it->is_symlink(code)) chmod(it->path().c_str(), 0700);
    }
    fs::remove_all(path, code);
  }
  static void clear_left(const std::string& in) {
    std::error_code code;
    std::vector<std::string> left;
    for (const fs::directory_entry& entry : fs::directory_iterator(in, code)) {
      const std::string name = entry.path().filename();
      if (name.starts_with(start) && name.ends_with(kept)) continue;
      if (name.starts_with(start) && entry.is_directory(code)) left.push_back(entry.path());
    }
    for (const std::string& path : left) {
      if (hold(path)) clear(path);
    }
  }

  std::string path_;
  FileHandle held_;
};

// Each file that is brought back: from where it begins to where it has its name, without the waiting for
// frames.
class TimedFiles final : public Observer {
 public:
  // Both must outlive this.
  TimedFiles(Observer& told, const PointReader& reader) : told_(told), reader_(reader) {}
  void file_begins(const std::string& path, std::uint64_t size) override {
    told_.file_begins(path, size);
    waited_ = reader_.unpacked().waited_seconds;
    begun_ = clock_seconds(CLOCK_MONOTONIC);
  }
  void file_ends(std::uint64_t size) {
    if (!begun_) return;
    const double took = clock_seconds(CLOCK_MONOTONIC) - *std::exchange(begun_, std::nullopt);
    pace_.add(std::max(0.0, took - (reader_.unpacked().waited_seconds - waited_)), static_cast<double>(size));
  }
  const RestorePace& pace() const { return pace_; }

  bool wants_totals() const override { return told_.wants_totals(); }
  void phase_begins(Phase phase, const PhaseTotals& totals) override { told_.phase_begins(phase, totals); }
  void advanced(std::uint64_t bytes, std::uint64_t files) override { told_.advanced(bytes, files); }
  void problem(const Problem& problem) override { told_.problem(problem); }
  void note(const std::string& text) override { told_.note(text); }

 private:
  Observer& told_;
  const PointReader& reader_;
  RestorePace pace_;
  std::optional<double> begun_;
  double waited_ = 0;
};

class Drill {
 public:
  Drill(LookSession& subject, const DrillRequest& request, const std::string& machine, Observer& observer,
        RunControl& control)
      : subject_(subject),
        request_(request),
        observer_(observer),
        control_(control),
        point_(subject, request.at.value_or(PointWish{})),
        today_(subject.has_identity() && subject.identity().machine == machine),
        scratch_(request.scratch) {
    result_.point = point_.facts();
    result_.drive = subject.drive_name();
    result_.seed = request.seed.value_or(random_number() % 1000000);
  }

  DrillResult run() {
    choose_always();
    choose_sample();
    bring_back();
    look_at_all();
    if (request_.rebuild) result_.trials = try_rebuilding(subject_, point_, scratch_.path(), control_);
    if (request_.keep) result_.kept_in = scratch_.keep();
    return std::move(result_);
  }

 private:
  void choose_always() {
    for (const WantedPath& wanted : request_.always) {
      try {
        const TreePath path = path_in(point_, wanted);
        CatalogReader catalog = point_.catalog();
        catalog.seek(path);
        for (std::optional<Entry> entry = catalog.next(); entry && entry->path.is_within(path);
             entry = catalog.next()) {
          if (entry->type == EntryType::file) wanted_.insert(entry->path);
        }
      } catch (const NoSuchPath& error) {
        result_.troubles.push_back(error.what());
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        result_.troubles.push_back(printable(wanted.readings.front().absolute()) + ": " + error.what());
      }
    }
  }

  // Each of the point's files with the same chance.
  void choose_sample() {
    struct Chosen {
      TreePath path;
      std::uint64_t size;
    };
    std::mt19937_64 random(result_.seed);
    std::vector<Chosen> chosen;
    observer_.phase_begins(Phase::scanning, {});
    const double begun = clock_seconds(CLOCK_MONOTONIC);
    each_file([&](const Entry& entry) {
      ++result_.all_files;
      result_.all_bytes += entry.size;
      const Chosen one{entry.path, entry.size};
      if (chosen.size() < request_.files) return chosen.push_back(one);
      const std::uint64_t at = std::uniform_int_distribution<std::uint64_t>(0, result_.all_files - 1)(random);
      if (at < chosen.size()) chosen[at] = one;
    });
    list_seconds_ = clock_seconds(CLOCK_MONOTONIC) - begun;
    std::shuffle(chosen.begin(), chosen.end(), random);
    picked_ = wanted_;
    std::uint64_t bytes = 0;
    for (const Chosen& one : chosen) {
      if (bytes + one.size > request_.bytes) continue;
      bytes += one.size;
      picked_.insert(one.path);
    }
  }

  void each_file(const std::function<void(const Entry&)>& use) {
    CatalogReader catalog = point_.catalog();
    while (true) {
      control_.checkpoint();
      try {
        const std::optional<Entry> entry = catalog.next();
        if (!entry) return;
        if (entry->type == EntryType::file && !entry->incomplete) use(*entry);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        CatalogReader::Gap gap;
        const bool more = catalog.pass_damage(gap);
        result_.unlisted = true;
        result_.troubles.push_back(gap_text(gap.from, gap.until, error.what()));
        if (!more) return;
      }
    }
  }

  void bring_back() {
    if (picked_.empty()) return;
    RestoreRequest request;
    for (const TreePath& path : picked_) request.paths.emplace_back(path);
    request.target = scratch_.path();
    request.layout = Layout::path;
    request.owners = OwnersAs::mine;
    const UnpackWork before = point_.reader().unpacked();
    TimedFiles timed(observer_, point_.reader());
    const RestoreResult restored = restore(point_, request, timed, control_, [&](const RestoredItem& item) {
      if (item.type != EntryType::file) return;
      back_[item.path] = item.placed;
      timed.file_ends(item.size);
    });
    for (const Problem& problem : restored.problems) why_[problem.path] = problem.reason;
    result_.seconds = std::chrono::duration<double>(restored.duration).count();
    result_.all_seconds =
        std::max(result_.seconds, list_seconds_ + timed.pace().seconds(static_cast<double>(result_.all_files),
                                                                       static_cast<double>(result_.all_bytes),
                                                                       point_.reader().unpacked() - before,
                                                                       read_ahead_threads()));
  }

  void look_at_all() {
    PhaseTotals totals;
    totals.files = picked_.size();
    observer_.phase_begins(Phase::checking, totals);
    CatalogReader catalog = point_.catalog();
    for (const TreePath& path : picked_) {
      control_.checkpoint();
      DrilledFile file;
      file.path = path.absolute();
      file.wanted = wanted_.contains(path);
      try {
        const std::optional<Entry> entry = catalog.find(path);
        if (!entry) throw damage("the list of files has it no more");
        look_at(*entry, file);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        file.state = DrilledFile::State::missing;
        file.why = error.what();
      }
      observer_.advanced(file.size, 1);
      result_.files.push_back(std::move(file));
    }
  }

  void look_at(const Entry& entry, DrilledFile& file) {
    file.size = entry.size;
    const auto back = back_.find(entry.path);
    const auto why = why_.find(file.path);
    if (back == back_.end()) {
      file.state = DrilledFile::State::missing;
      file.why = why != why_.end() ? why->second : "it did not come back";
      return;
    }
    file.why = trouble_of(entry, back->second);
    if (!file.why.empty()) {
      file.state = DrilledFile::State::different;
      return;
    }
    result_.bytes += entry.size;
    file.source = source_of(entry);
    file.opening = try_opening(back->second, scratch_.path(), control_);
  }

  // Why what came back is not what the point has; empty: it is.
  std::string trouble_of(const Entry& entry, const std::string& placed) {
    const FileHandle file(open(placed.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW));
    struct stat now {};
    if (!file || fstat(file.get(), &now) != 0) return system_error("read", placed, errno).what();
    if (static_cast<std::uint64_t>(now.st_size) != entry.size)
      return "it has " + grouped(static_cast<std::uint64_t>(now.st_size)) + " bytes instead of " +
             grouped(entry.size);
    if (!same_content(point_.reader(), entry, file.get(), control_)) return "its content is another";
    // Some file systems know even seconds only.
    constexpr std::int64_t least = 2;
    if (std::abs(now.st_mtim.tv_sec - entry.modified.seconds) > least)
      return "its time of modification is another";
    return {};
  }

  DrilledFile::Source source_of(const Entry& entry) {
    switch (today_.look(entry)) {
      case Today::unknown:
        return DrilledFile::Source::unknown;
      case Today::differs:
      case Today::gone:
        return DrilledFile::Source::changed;
      case Today::same:
        break;
    }
    const FileHandle file = today_.open(entry);
    if (!file) return DrilledFile::Source::unknown;
    if (same_content(point_.reader(), entry, file.get(), control_)) return DrilledFile::Source::same;
    return today_.look(entry) == Today::same ? DrilledFile::Source::differs : DrilledFile::Source::changed;
  }

  LookSession& subject_;
  const DrillRequest& request_;
  Observer& observer_;
  RunControl& control_;
  OpenPoint point_;
  DiskToday today_;
  ScratchFolder scratch_;
  std::set<TreePath> wanted_, picked_;
  std::map<TreePath, std::string> back_;    // where it was put
  std::map<std::string, std::string> why_;  // it was not
  double list_seconds_ = 0;                 // that going through the point's list took
  DrillResult result_;
};

}  // namespace

std::uint64_t DrillResult::count(DrilledFile::State state) const {
  return static_cast<std::uint64_t>(std::count_if(
      files.begin(), files.end(), [&](const DrilledFile& file) { return file.state == state; }));
}

std::uint64_t DrillResult::count(DrilledFile::Source source) const {
  return static_cast<std::uint64_t>(std::count_if(
      files.begin(), files.end(), [&](const DrilledFile& file) { return file.source == source; }));
}

std::uint64_t DrillResult::opened() const {
  return static_cast<std::uint64_t>(
      std::count_if(files.begin(), files.end(), [](const DrilledFile& file) { return file.opens(); }));
}

std::uint64_t DrillResult::unopened() const {
  return static_cast<std::uint64_t>(std::count_if(
      files.begin(), files.end(), [](const DrilledFile& file) { return file.fails_to_open(); }));
}

bool DrillResult::good() const {
  return troubles.empty() && count(DrilledFile::State::good) == files.size() &&
         std::all_of(trials.begin(), trials.end(), [](const RebuildTrial& trial) { return trial.good; });
}

DrillResult drill(LookSession& subject, const DrillRequest& request, const std::string& machine,
                  Observer& observer, RunControl& control) {
  return Drill(subject, request, machine, observer, control).run();
}

}  // namespace kestrum
