#include "engine/job_rebuild.hpp"

#include <sys/stat.h>

#include <algorithm>
#include <filesystem>

#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "engine/passphrase_place.hpp"
#include "engine/restore_places.hpp"
#include "engine/run_facts.hpp"
#include "job/job_edit.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

bool is_there(const std::string& path) {
  struct stat status {};
  return stat(path.c_str(), &status) == 0;
}

std::string file_of(const std::string& passphrase) {
  constexpr std::string_view by_file = "file:";
  return passphrase.starts_with(by_file) ? passphrase.substr(by_file.size()) : std::string();
}

std::string root_of(const std::string& named) {
  try {
    return locate_destination(DestinationAddress::parse(named));
  } catch (const Error&) {
    return {};
  }
}

// Where the job's own words lead to the place that it was found in, they stay.
std::vector<std::string> destinations_here(const Job& job, const LookSession& subject) {
  std::vector<std::string> all = job.destinations;
  if (std::any_of(all.begin(), all.end(),
                  [&](const std::string& one) { return root_of(one) == subject.root(); }))
    return all;
  auto place = std::find_if(all.begin(), all.end(), [&](const std::string& one) {
    return fs::path(one).filename() == subject.drive_name() || one == "label:" + subject.drive_name();
  });
  if (place == all.end()) place = all.begin();
  *place = subject.root();
  return all;
}

class Changes {
 public:
  explicit Changes(const Job& job) : job_(job) {}
  void set(const char* table, const char* key, const KeyValues& values) {
    const auto given = job_.given.find({table, key});
    if (given != job_.given.end() && given->second != values)
      all_.push_back({find_job_key(table, key), values});
  }
  bool drop(const char* table, const char* key) {
    if (!job_.given.contains({table, key})) return false;
    all_.push_back({find_job_key(table, key), std::nullopt});
    return true;
  }
  // Those that are said by a person win.
  std::vector<KeyChange> with(const std::vector<KeyChange>& said) && {
    std::erase_if(all_, [&](const KeyChange& one) {
      return std::any_of(said.begin(), said.end(),
                         [&](const KeyChange& other) { return other.key == one.key; });
    });
    all_.insert(all_.end(), said.begin(), said.end());
    return std::move(all_);
  }

 private:
  const Job& job_;
  std::vector<KeyChange> all_;
};

RunEntry entry_of(const FoundSet& set, const std::string& job, const std::string& named,
                  const std::string& drive) {
  const SetFacts& facts = set.facts();
  RunEntry run;
  run.job = job;
  run.started = facts.started;
  run.ended = facts.ended;
  run.result = facts.problems > 0 ? RunResult::done_with_problems : RunResult::done;
  run.exit_code = facts.problems > 0 ? 1 : 0;
  run.message = "taken over from the drive " + drive;
  run.destination = named;
  run.sequence = facts.sequence;
  run.kind = facts.kind;
  run.totals = facts.totals;
  run.problems = static_cast<std::int64_t>(facts.problems);
  run.set = facts.set;
  return run;
}

std::vector<Problem> problems_of(LookSession& subject, const SetFacts& facts) {
  if (facts.problems == 0) return {};
  OpenPoint point(subject, {PointWish::By::number, facts.sequence, {}});
  const ChunkRef ref = point.reader().set().root().problems;
  return ref.length == 0 ? std::vector<Problem>() : decode_problems(point.reader().fetch(ref));
}

// The runs that made the points, in the order of their time.
void rebuild_history(const Home& home, const std::string& job, const std::string& named, LookSession& subject,
                     Rebuilt& result) {
  History history = History::open(home, [&](const std::string& text) { result.troubles.push_back(text); });
  if (history.ledger() == nullptr) return;
  std::set<Id> known;
  for (const RunEntry& run : history.runs("", std::numeric_limits<int>::max())) {
    if (run.set) known.insert(*run.set);
  }
  for (const FoundSet& set : subject.sets()) {
    if (!set.sealed() || known.contains(set.facts().set)) continue;
    RunEntry run = entry_of(set, job, named, subject.drive_name());
    std::vector<Problem> problems;
    try {
      problems = problems_of(subject, set.facts());
    } catch (const Error& error) {
      result.troubles.push_back("the problems of point " + point_text(set.facts()) +
                                " do not read: " + error.what());
    }
    history.begin_run(run);
    history.finish_run(run, problems);
    result.points += run.number > 0 ? 1 : 0;
  }
  if (history.trouble())
    result.troubles.push_back("not all of its history could be written: " +
                              std::string(history.trouble()->what()));
}

// `before`: what a home remembers already.
JobState state_of(const Home& home, LookSession& subject, const std::string& named,
                  const std::optional<JobState>& before) {
  const Id& job = subject.identity().job;
  JobState state = before && before->job == job ? *before : JobState();
  state.job = job;
  state.machine = home.machine();
  if (!subject.destination().drive) return state;
  DriveState& drive = state.use(subject.destination().drive->id, named);
  drive = DriveState();
  drive.drive = subject.destination().drive->id;
  drive.destination = named;
  const FoundSet* const newest = subject.sets().newest();
  if (newest == nullptr) return state;
  drive.highest = newest->folder.sequence;
  for (const FoundSet& set : subject.sets()) {
    if (set.sealed()) drive.highest = std::max(drive.highest, set.folder.sequence);
  }
  drive.newest_core = newest->seal->core_digest;
  drive.newest_folder = newest->folder.name;
  drive.written = newest->facts().started;
  for (const FoundSet& set : subject.sets()) {
    if (set.sealed() && keeps_others_out(set.seal->keys) && subject.authenticated(set))
      state.chain_keys[set.facts().chain] =
          key_check(subject.keys().unlock(set.seal->keys, set.facts().chain));
  }
  return state;
}

// Their public parts stand in the seals of an encrypted job.
void write_recovery_files(const Job& job, LookSession& subject, Rebuilt& result) {
  const FoundSet* const newest = subject.sets().newest();
  if (newest == nullptr || !subject.authenticated(*newest)) return;
  std::vector<RecoveryPublic> parts = recovery_parts(newest->seal->keys);
  std::vector<std::string> lost;
  for (const std::string& file : job.recovery_keys) {
    if (!is_there(file)) {
      lost.push_back(file);
      continue;
    }
    try {
      std::erase(parts, read_recovery_public(file));
    } catch (const Error&) {
      // Whatever it is, it is none of theirs.
    }
  }
  // The seals have them in the job's order, without names: where some are missing nobody can say which.
  if (lost.size() != parts.size()) return;
  for (std::size_t i = 0; i < lost.size(); ++i) {
    try {
      fs::create_directories(fs::path(lost[i]).parent_path());
      create_file(lost[i], as_bytes(recovery_public_text(parts[i])), 0644);
      result.recovery_files.push_back(lost[i]);
    } catch (const std::exception& error) {
      result.troubles.push_back("the recovery key's public part could not be written: " +
                                std::string(error.what()));
    }
  }
}

}  // namespace

std::string mapped_text(const std::string& path, const std::vector<PathMap>& map) {
  if (path.starts_with('!')) return "!" + mapped_text(path.substr(1), map);
  const std::optional<TreePath> tree = TreePath::parse(path);
  if (!path.starts_with('/') || !tree) return path;
  const TreePath to = mapped_path(*tree, map);
  return to == *tree ? path : to.absolute() + (path.ends_with('/') ? "/" : "");
}

// What is clear must not stand in for what a way in would prove.
static void refuse_without_way_in(LookSession& subject, const SetList& sets) {
  bool clear = false, closed = false;
  for (const FoundSet& set : sets) {
    if (!set.sealed()) continue;
    try {
      if (subject.keys().open(set.seal->keys, set.facts().chain).by == KeyEntryType::clear) clear = true;
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key && error.kind() != ErrorKind::damage) throw;
      closed = true;
    }
  }
  if (clear && closed)
    throw Error(
        ErrorKind::key,
        "some points here are encrypted and some are not, and no way in was given that tells which are "
        "the job's own",
        "give --passphrase file:PATH, or ask on a terminal");
}

JobOnDrive job_on_drive(LookSession& subject, const std::string& name) {
  JobOnDrive found;
  std::optional<Error> first;
  const SetList& sets = subject.proved_sets();
  refuse_without_way_in(subject, sets);
  std::vector<Sequence> numbers;
  for (const FoundSet& set : sets) {
    if (set.sealed()) numbers.push_back(set.folder.sequence);
  }
  if (numbers.empty()) choose_point(sets, {});  // says why there is none
  std::string text;
  for (auto number = numbers.rbegin(); number != numbers.rend(); ++number) {
    try {
      OpenPoint point(subject, {PointWish::By::number, *number, {}});
      text = std::string(as_text(point.reader().fetch(point.reader().set().root().job_file)));
      found.point = point.facts();
      found.authenticated = point.authenticated();
      found.encrypted = keeps_others_out(sets.sealed(*number)->seal->keys);
      break;
    } catch (const Error& error) {
      if (!does_not_read(error)) throw;
      if (!first) first = error;
      found.unread.push_back("point " + std::to_string(*number) + ": " + error.what());
    }
  }
  if (text.empty()) throw *first;
  found.job = parse_job(name, "the job file in point " + std::to_string(found.point.sequence), text);
  return found;
}

// What names a command, or a place where whoever runs the job reads or writes besides the files that it
// saves; and whatever would turn encryption off.
static std::vector<std::string> drop_what_acts(const JobOnDrive& found, Changes& changes) {
  std::vector<std::string> dropped;
  for (const FileKey* key : job_file_keys()) {
    const std::string table = key->table, name = key->key;
    const bool place =
        table == "protect" && (name == "passphrase" || name == "recovery-key" || name == "bait");
    const bool opens = table == "protect" && name == "encryption" && found.encrypted;
    const bool drive = table == "where" && name != "destinations";
    const bool acts = table == "around" || table == "tell" || place || opens || drive;
    if (acts && changes.drop(key->table, key->key)) dropped.push_back("[" + table + "] " + name);
  }
  return dropped;
}

RebuiltFile file_for_here(const JobOnDrive& found, const LookSession& subject, const RebuildHere& here) {
  const Job& job = found.job;
  RebuiltFile out;
  Changes changes(job);
  changes.set("where", "destinations",
              found.authenticated ? destinations_here(job, subject) : KeyValues{subject.root()});
  KeyValues folders, skip, people;
  for (const std::string& folder : job.what.folders) folders.push_back(mapped_text(folder, here.map));
  for (const std::string& pattern : job.what.skip) skip.push_back(mapped_text(pattern, here.map));
  for (const std::string& name : job.what.people) {
    const auto other = here.people.find(name);
    people.push_back(other == here.people.end() ? name : other->second);
  }
  changes.set("what", "folders", folders);
  changes.set("what", "skip", skip);
  changes.set("what", "people", people);
  if (!found.authenticated) {
    const std::vector<std::string> dropped = drop_what_acts(found, changes);
    if (!dropped.empty())
      out.notes.push_back(join(dropped, ", ") +
                          " did not come along: no key says who made this point, so anybody who could write "
                          "the drive may have written them; say them again with kestrum job edit");
  }
  out.text = edit_job_text(job.name, job.file, job.text, std::move(changes).with(here.changes));
  refuse_passphrase_at_destination(parse_job(job.name, job.file, out.text));
  return out;
}

MissingHere missing_here(const Job& job, const People& people) {
  MissingHere missing;
  for (const std::string& folder : job.what.folders) {
    if (!is_there(folder)) missing.folders.push_back(folder);
  }
  for (const std::string& name : job.what.people) {
    const bool here = name == "me" || name == "everybody" ||
                      std::any_of(people.everybody.begin(), people.everybody.end(),
                                  [&](const Account& one) { return one.name == name; });
    if (!here) missing.people.push_back(name);
  }
  const std::string passphrase = file_of(job.passphrase);
  if (job.encryption != Encryption::none && !passphrase.empty() && !is_there(passphrase))
    missing.passphrase_file = passphrase;
  for (const std::string& file : job.recovery_keys) {
    if (!is_there(file)) missing.recovery_files.push_back(file);
  }
  return missing;
}

Rebuilt take_over_sets(const Home& home, const Job& job, LookSession& subject) {
  Rebuilt result;
  const auto named = std::find_if(job.destinations.begin(), job.destinations.end(),
                                  [&](const std::string& one) { return root_of(one) == subject.root(); });
  if (named == job.destinations.end())
    throw Error(ErrorKind::usage,
                "the job '" + printable(job.name) + "' does not save to " + printable(subject.root()),
                "its destinations are " + join(job.destinations, ", ") +
                    "; change them with: kestrum job edit " + shell_word(printable(job.name)) +
                    " --where-destinations FOLDER");
  subject.proved_sets();
  rebuild_history(home, job.name, *named, subject, result);
  std::optional<JobState> before;
  try {
    before = home.load_state(job.name);
  } catch (const Error&) {
    // What does not read is replaced.
  }
  home.save_state(job.name, state_of(home, subject, *named, before));
  return result;
}

Rebuilt rebuild_job(const Home& home, const JobOnDrive& found, const std::string& text,
                    LookSession& subject) {
  const std::string& name = found.job.name;
  if (home.has_job(name)) home.create_job(name, text);  // says that it is there
  const Job job = parse_job(name, home.job_path(name), text);
  Rebuilt result;
  std::string named = job.destinations.at(0);
  for (const std::string& one : job.destinations) {
    if (root_of(one) == subject.root()) named = one;
  }
  write_recovery_files(job, subject, result);
  rebuild_history(home, name, named, subject, result);
  home.save_state(name, state_of(home, subject, named, std::nullopt));
  home.create_job(name, text);
  return result;
}

}  // namespace kestrum
