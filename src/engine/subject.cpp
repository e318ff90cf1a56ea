#include "engine/subject.hpp"

#include <filesystem>

#include "base/text.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {
namespace {

namespace fs = std::filesystem;

std::string absolute_path(const std::string& path) {
  std::error_code code;
  fs::path real = fs::weakly_canonical(path, code);
  std::string text = code ? fs::absolute(path).string() : real.string();
  while (text.size() > 1 && text.back() == '/') text.pop_back();
  return text;
}

// machine/job of a path below a destination: its job.json may be lost.
std::string first_two(const fs::path& below) {
  auto part = below.begin();
  if (std::distance(part, below.end()) < 2) return {};
  fs::path two = *part;
  two /= *++part;
  return two.string();
}

struct Located {
  std::string root;
  std::string folder;  // the job's, when the path says so much
  std::optional<Sequence> set;
};

// Upwards from the path: the set's folder, the job's, the destination's root.
Located locate(const std::string& path) {
  Located found;
  std::string job_folder;
  for (fs::path at = path;; at = at.parent_path()) {
    if (!found.set) {
      if (std::optional<SetFolder> folder = parse_set_folder("", at.filename().string()))
        found.set = folder->sequence;
    }
    if (job_folder.empty() && fs::exists(at / job_identity_name)) job_folder = at.string();
    if (fs::exists(at / drive_name)) {
      found.root = at.string();
      if (!job_folder.empty()) found.folder = fs::path(job_folder).lexically_relative(at).string();
      if (job_folder.empty()) found.folder = first_two(fs::path(path).lexically_relative(at));
      break;
    }
    if (at == at.root_path() || at.empty()) break;
  }
  // A job's folder that was copied elsewhere, without its destination.
  if (found.root.empty()) found.root = job_folder;
  if (found.folder.empty() || found.folder == ".") found.set = job_folder.empty() ? std::nullopt : found.set;
  return found;
}

std::string names_of(const std::vector<JobPlace>& places) {
  std::vector<std::string> lines;
  for (const JobPlace& place : places) {
    lines.push_back("--machine " + printable(place.identity.machine) + " --job " +
                    printable(place.identity.name));
  }
  return join(lines, "\n  ");
}

JobPlace choose_place(const std::vector<JobPlace>& all, const SubjectOptions& options,
                      const std::string& where) {
  std::vector<JobPlace> fitting;
  for (const JobPlace& place : all) {
    bool machine = options.machine.empty() || options.machine == place.identity.machine;
    bool job = options.job.empty() || options.job == place.identity.name;
    if (machine && job) fitting.push_back(place);
  }
  if (fitting.size() == 1) return fitting[0];
  if (fitting.empty() && all.empty()) {
    throw Error(ErrorKind::no_destination, "the destination " + printable(where) + " holds no job yet",
                "run a job into it first");
  }
  if (fitting.empty())
    throw Error(ErrorKind::usage, "no such job is in " + printable(where), "there are:\n  " + names_of(all));
  throw Error(ErrorKind::usage, "several jobs are in " + printable(where),
              "choose one with\n  " + names_of(fitting));
}

}  // namespace

std::optional<JobPlace> identify_job(const Store& store, const std::string& folder) {
  JobPlace place;
  place.folder = folder;
  try {
    if (std::optional<JobIdentity> identity = read_job_identity(store, folder)) {
      place.identity = *identity;
      return place;
    }
    place.finding = store.describe(folder + "/" + job_identity_name) + " is missing";
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage) throw;
    place.finding = error.what();
  }
  for (const SetFolder& set : list_set_folders(store, folder)) {
    for (const char* name : {seal_name, seal_copy_name}) {
      try {
        std::string path = set.path + "/" + name;
        if (!store.exists(path)) continue;
        Seal seal = decode_seal(store.read_all(path, limits::seal_file), path);
        place.identity = {seal.core.job, seal.core.machine, seal.core.job_name, seal.core.facts.started};
        return place;
      } catch (const Error&) {
        continue;  // the next one may read
      }
    }
  }
  return std::nullopt;
}

std::vector<JobPlace> list_jobs_at(const Store& store) {
  std::vector<JobPlace> places;
  for (const StoreEntry& machine : store.list("")) {
    if (!machine.folder) continue;
    for (const StoreEntry& job : store.list(machine.name)) {
      if (!job.folder) continue;
      std::string folder = machine.name + "/" + job.name;
      if (std::optional<JobPlace> place = identify_job(store, folder)) places.push_back(std::move(*place));
    }
  }
  return places;
}

Subject Subject::open(const Home* home, const SubjectOptions& options) {
  Subject subject;
  std::string source = options.passphrase.value_or("ask");
  std::string path = options.subject;
  bool by_drive = path.starts_with("label:") || path.starts_with("uuid:");
  if (by_drive) path = locate_destination(path);
  bool by_name = home != nullptr && !by_drive && options.subject.find('/') == std::string::npos &&
                 (home->has_job(options.subject) || !fs::exists(options.subject));
  if (by_name) {
    subject.job_ = home->load_job(options.subject);
    path = locate_destination(options.destination.empty() ? subject.job_->destinations.at(0)
                                                          : options.destination);
    if (!options.passphrase) source = subject.job_->passphrase;
  }
  path = absolute_path(path);
  if (!fs::exists(path)) {
    throw Error(ErrorKind::no_destination, "the destination " + printable(path) + " is not there",
                by_name ? "connect the drive, or mount it there" : "check the path");
  }
  Located located = locate(path);
  if (located.root.empty()) {
    throw Error(ErrorKind::no_destination,
                by_name ? "there is no archive set in " + printable(path) + " yet"
                        : printable(path) + " is no destination: there is no drive.json in it or above it",
                by_name ? "run the job first: kestrum run " + printable(options.subject)
                        : "name a destination, or a folder or file below one");
  }
  subject.root_ = located.root;
  subject.store_ = open_local_store(located.root);
  subject.folder_ = located.folder == "." ? "" : located.folder;
  std::optional<JobPlace> place;
  if (!by_name && (!subject.folder_.empty() || fs::exists(fs::path(located.root) / job_identity_name))) {
    place = identify_job(*subject.store_, subject.folder_);
  }
  if (!place) {
    std::vector<JobPlace> places = list_jobs_at(*subject.store_);
    SubjectOptions choice = options;
    if (by_name) {
      std::optional<JobState> state = home->load_state(subject.job_->name);
      if (state) {
        std::erase_if(places, [&](const JobPlace& one) { return one.identity.job != state->job; });
      } else if (choice.job.empty()) {
        choice.job = subject.job_->name;
      }
      if (places.empty()) {
        throw Error(ErrorKind::no_destination,
                    "there is no archive set of the job '" + printable(options.subject) + "' in " +
                        printable(path) + " yet",
                    "run the job first: kestrum run " + printable(options.subject));
      }
    }
    place = choose_place(places, choice, located.root);
    subject.folder_ = place->folder;
  }
  subject.identity_ = place->identity;
  subject.finding_ = place->finding;
  subject.named_set_ = located.set;
  AskPassphrase ask = options.ask;
  std::string what = "passphrase of the archive sets of '" + printable(subject.identity_.name) + "'";
  subject.keys_ =
      std::make_unique<KeyRing>([source, what, ask] { return get_passphrase(source, what, ask); });
  if (options.recovery_key) subject.keys_->use_recovery_key(read_recovery_secret(*options.recovery_key));
  return subject;
}

std::vector<Subject> Subject::open_each(const Home* home, const SubjectOptions& options,
                                        const std::function<void(const std::string&)>& away) {
  std::vector<Subject> subjects;
  bool several = home != nullptr && options.destination.empty() && home->has_job(options.subject) &&
                 home->load_job(options.subject).destinations.size() > 1;
  if (!several) {
    subjects.push_back(open(home, options));
    return subjects;
  }
  std::optional<Error> first;
  for (const std::string& named : home->load_job(options.subject).destinations) {
    SubjectOptions one = options;
    one.destination = named;
    try {
      Subject subject = open(home, one);
      bool twice = std::any_of(subjects.begin(), subjects.end(),
                               [&](const Subject& other) { return other.root_ == subject.root_; });
      if (!twice) subjects.push_back(std::move(subject));
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::no_destination) throw;
      if (!first) first = error;
      away(error.what());
    }
  }
  if (subjects.empty()) throw *first;
  return subjects;
}

std::string Subject::drive_name() const {
  try {
    if (std::optional<DriveIdentity> drive = read_drive(*store_)) return drive->name;
  } catch (const Error&) {
    // Its name only helps people.
  }
  return root_.substr(root_.rfind('/') + 1);
}

namespace {

bool fits(const FoundSet& set, const PointWish& wish) {
  return set.sealed() && (wish.by == PointWish::By::latest ||
                          (wish.by == PointWish::By::number && set.folder.sequence == wish.number) ||
                          (wish.by == PointWish::By::moment && set.seal->core.facts.started <= wish.moment));
}

const FoundSet* newest_for(const std::vector<FoundSet>& sets, const PointWish& wish) {
  const FoundSet* chosen = nullptr;
  for (const FoundSet& set : sets) {
    if (fits(set, wish)) chosen = &set;
  }
  return chosen;
}

}  // namespace

DrivePoint choose_drive(const std::vector<Subject>& subjects, const std::optional<std::string>& text,
                        Instant now) {
  if (subjects.size() == 1) return {0, wish_for(subjects[0], text, now)};
  std::size_t colon = text ? text->rfind(':') : std::string::npos;
  for (std::size_t i = 0; colon != std::string::npos && i < subjects.size(); ++i) {
    if (text->substr(0, colon) == subjects[i].drive_name())
      return {i, wish_for(subjects[i], text->substr(colon + 1), now)};
  }
  PointWish wish = wish_for(subjects[0], text, now);
  std::optional<std::size_t> best;
  Instant started;
  std::vector<std::string> on;
  for (std::size_t i = 0; i < subjects.size(); ++i) {
    std::vector<FoundSet> sets = subjects[i].sets();
    const FoundSet* found = newest_for(sets, wish);
    if (found == nullptr) continue;
    on.push_back(printable(subjects[i].drive_name()) + ":" + std::to_string(found->folder.sequence));
    if (best && found->seal->core.facts.started <= started) continue;
    best = i;
    started = found->seal->core.facts.started;
  }
  if (wish.by == PointWish::By::number && on.size() > 1)
    throw Error(ErrorKind::usage, "point " + std::to_string(wish.number) + " is on several drives",
                "say which: " + join(on, ", "));
  return {best.value_or(0), wish};
}

std::string point_text(const SetFacts& facts) {
  return std::to_string(facts.sequence) + " (" + std::string(kind_name(facts.kind)) + ", " +
         local_text(facts.started, true) + ")";
}

PointWish wish_for(const Subject& subject, const std::optional<std::string>& text, Instant now) {
  if (!text) {
    if (subject.named_set()) return {PointWish::By::number, *subject.named_set(), {}};
    return {};
  }
  std::optional<PointWish> wish = parse_point_wish(*text, now);
  if (!wish) {
    throw Error(ErrorKind::usage, "'" + printable(*text) + "' does not name a point in time",
                "write latest, a point's number, a date like 2027-03-14, a time like \"2027-03-14 09:30\", "
                "yesterday, or \"3 days ago\"");
  }
  return *wish;
}

const FoundSet& choose_point(const std::vector<FoundSet>& sets, const PointWish& wish) {
  const FoundSet* oldest = nullptr;
  const FoundSet* newest = nullptr;
  const FoundSet* chosen = nullptr;
  for (const FoundSet& set : sets) {
    if (wish.by == PointWish::By::number && set.folder.sequence == wish.number && set.refusal)
      throw *set.refusal;
    if (!set.sealed()) continue;
    if (oldest == nullptr) oldest = &set;
    newest = &set;
    if (fits(set, wish)) chosen = &set;
  }
  if (chosen != nullptr) return *chosen;
  if (newest == nullptr) {
    for (const FoundSet& set : sets) {
      if (set.refusal) throw *set.refusal;
    }
    bool any_damage =
        std::any_of(sets.begin(), sets.end(), [](const FoundSet& set) { return !set.findings.empty(); });
    if (any_damage) throw damage("no set here has a seal that still reads");
    throw Error(ErrorKind::usage, "there is no point yet", "run the job first");
  }
  std::string there = "the points are " + point_text(oldest->seal->core.facts) + " to " +
                      point_text(newest->seal->core.facts);
  if (wish.by == PointWish::By::number) {
    for (const FoundSet& set : sets) {
      if (set.folder.sequence == wish.number && !set.findings.empty()) throw damage(set.findings[0]);
    }
    throw Error(ErrorKind::usage, "there is no point " + std::to_string(wish.number), there);
  }
  throw Error(ErrorKind::usage, "there is no point as early as that", there);
}

}  // namespace kestrum
