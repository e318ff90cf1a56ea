#include "engine/session.hpp"

#include <unistd.h>

#include <algorithm>
#include <filesystem>

#include "base/text.hpp"
#include "engine/path_proof.hpp"

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

bool holds_sets(const fs::path& folder) {
  std::error_code code;
  for (const fs::directory_entry& entry : fs::directory_iterator(folder, code)) {
    bool set = parse_set_folder("", entry.path().filename().string()).has_value();
    if (set &&
        (fs::exists(entry.path() / seal_name, code) || fs::exists(entry.path() / seal_copy_name, code)))
      return true;
  }
  return false;
}

struct Located {
  std::string root;
  std::string folder;  // the job's, when the path says so much
  std::optional<Sequence> set;
};

// Upwards from the path: the set's folder, the job's, the destination's root.
Located locate(const std::string& path) {
  Located found;
  std::string job_folder, with_sets;
  std::error_code code;
  for (fs::path at = path;; at = at.parent_path()) {
    if (!found.set) {
      if (std::optional<SetFolder> folder = parse_set_folder("", at.filename().string()))
        found.set = folder->sequence;
    }
    if (job_folder.empty() && fs::exists(at / job_identity_name, code)) job_folder = at.string();
    if (with_sets.empty() && holds_sets(at)) with_sets = at.string();
    if (fs::exists(at / drive_name, code)) {
      found.root = at.string();
      if (!job_folder.empty()) found.folder = fs::path(job_folder).lexically_relative(at).string();
      if (job_folder.empty()) found.folder = first_two(fs::path(path).lexically_relative(at));
      break;
    }
    if (at == at.root_path() || at.empty()) break;
  }
  // A job's folder that was copied elsewhere, without its destination; or anything with sets below it.
  if (found.root.empty()) found.root = !job_folder.empty() ? job_folder : with_sets;
  if (found.root.empty())
    found.root = fs::is_directory(path, code) ? path : fs::path(path).parent_path().string();
  if (found.folder == ".") found.folder.clear();
  if (job_folder.empty() && with_sets.empty()) found.set.reset();
  return found;
}

// The same, and from the top of a drive down to its destination.
Located locate_from_top(const std::string& path) {
  Located located = locate(path);
  const bool found = fs::exists(fs::path(located.root) / drive_name) || !located.folder.empty();
  if (found || !fs::is_directory(path) || holds_sets(path)) return located;
  return locate(destination_in(path));
}

// As words of a command. Of two with the same names each by its folder, which is no other's.
std::string names_of(const std::vector<JobPlace>& places, const std::string& where) {
  std::map<std::string, std::vector<std::string>> folders;  // by names
  for (const JobPlace& place : places) {
    const std::string names = "--machine " + shell_word(printable(place.identity.machine)) + " --job " +
                              shell_word(printable(place.identity.name));
    folders[names].push_back(shell_word(printable(where + "/" + place.folder)));
  }
  std::vector<std::string> lines;
  for (const auto& [names, of_them] : folders) {
    if (of_them.size() == 1) lines.push_back(names);
    if (of_them.size() > 1) lines.insert(lines.end(), of_them.begin(), of_them.end());
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
  if (fitting.empty())
    throw Error(ErrorKind::usage, "no such job is in " + printable(where),
                "there are:\n  " + names_of(all, where));
  const bool alike = std::all_of(fitting.begin(), fitting.end(), [&](const JobPlace& one) {
    return one.identity.machine == fitting[0].identity.machine &&
           one.identity.name == fitting[0].identity.name;
  });
  throw Error(ErrorKind::usage, "several jobs are in " + printable(where),
              (alike ? "they have the same names: choose one by its folder\n  " : "choose one with\n  ") +
                  names_of(fitting, where));
}

// Jobs of that name which this home has not made.
std::string of_others(const std::vector<JobPlace>& places, const JobState& own, const std::string& name,
                      const std::string& where) {
  std::string words;
  for (const JobPlace& place : places) {
    if (place.identity.name != to_utf8(name) || place.identity.job == own.job) continue;
    words += "another job of that name is in " + shell_word(printable(where + "/" + place.folder)) +
             ": to look into it, name that folder instead of the job\n  ";
  }
  return words;
}

// What a home remembers of the job with that number, whatever it is called.
std::optional<JobState> memory_of(const Home& home, const Id& job) {
  try {
    for (const std::string& name : home.job_names()) {
      std::optional<JobState> state = home.load_state(name);
      if (state && state->job == job) return state;
    }
  } catch (const Error&) {
    // A home that does not read knows nothing; looking by a path needs none.
  }
  return std::nullopt;
}

std::shared_ptr<KeyRing> key_ring(const std::string& source, const std::string& what,
                                  const AskPassphrase& ask) {
  return std::make_shared<KeyRing>([source, what, ask] { return get_passphrase(source, what, ask); });
}

}  // namespace

std::shared_ptr<KeyRing> job_keys(const Job& job, const AskPassphrase& ask) {
  return key_ring(job.passphrase, "passphrase of the job '" + printable(job.name) + "'", ask);
}

LookSession::LookSession(const Job& job, const std::string& named, const std::optional<JobState>& state,
                         const RunContext& context, std::shared_ptr<KeyRing> keys)
    : place_(std::make_unique<Destination>(
          find_destination(job, named, state, context.machine, context.open_store, context.meant))),
      home_(&context.home),
      job_(job),
      state_(state),
      keys_(std::move(keys)),
      asks_(job.passphrase == "ask") {
  findings_ = lost_file_lines(*place_);
}

// The job's folder at a place: the one that the path named, or the one that fits the options.
void LookSession::find_job(const std::string& named_folder, const SubjectOptions& options) {
  std::optional<JobPlace> found;
  if (!named_folder.empty()) found = identify_job(store(), named_folder);
  if (!found) {
    std::vector<JobPlace> places = list_jobs_at(store());
    SubjectOptions choice = options;
    std::string others;
    if (job_ && state_) {
      others = of_others(places, *state_, job_->name, root());
      std::erase_if(places, [&](const JobPlace& one) { return one.identity.job != state_->job; });
    } else if (job_ && choice.job.empty()) {
      choice.job = job_->name;
    }
    if (places.empty() && job_)
      throw Error(ErrorKind::no_destination,
                  "there is no archive set of the job '" + printable(job_->name) + "' in " +
                      printable(root()) + " yet",
                  others + "run the job first: kestrum run " + shell_word(printable(job_->name)));
    bool destination = place_->drive || place_->drive_trouble;
    if (places.empty() && destination)
      throw Error(ErrorKind::no_destination, "the destination " + printable(root()) + " holds no job yet",
                  "run a job into it first");
    if (places.empty())
      throw Error(ErrorKind::no_destination,
                  printable(root()) +
                      " is no destination: there is no drive.json in it or above it, and no "
                      "archive set",
                  "name a destination, or a folder or file below one");
    found = choose_place(places, choice, root());
  }
  place_->folder = found->folder;
  place_->identity = found->identity;
  place_->job_file_lost = job_ && !found->finding.empty();
  if (!job_ && !found->finding.empty()) findings_.push_back(found->finding);
  for (const std::string& line : lost_file_lines(*place_)) findings_.push_back(line);
}

// What does not read is told; a job's sets may prove its drive instead.
void LookSession::prove_drive() {
  const bool damaged = place_->drive_trouble.has_value();
  try {
    if (job_ && state_) prove_drive_by_sets(*place_, state_);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::damage) throw;
  }
  if (damaged && !place_->drive_file_lost) findings_.emplace_back(place_->drive_trouble->what());
}

LookSession LookSession::open(const Home* home, const SubjectOptions& options) {
  LookSession session;
  session.home_ = home;
  std::string source = options.passphrase.value_or("ask");
  DestinationAddress address = DestinationAddress::parse(options.subject);
  bool by_name = home != nullptr && !address.names_drive() &&
                 options.subject.find('/') == std::string::npos &&
                 (home->has_job(options.subject) || !fs::exists(options.subject));
  Located located;
  if (by_name) {
    session.job_ = home->load_job(options.subject);
    session.state_ = home->load_state(session.job_->name);
    if (!options.passphrase) source = session.job_->passphrase;
    address = DestinationAddress::parse(options.destination.empty() ? session.job_->destinations.at(0)
                                                                    : options.destination);
  } else {
    std::string path = absolute_path(locate_destination(address));
    if (!fs::exists(path))
      throw Error(ErrorKind::no_destination, "the destination " + printable(path) + " is not there",
                  "check the path");
    located = locate_from_top(path);
    address = {DestinationAddress::By::path, {}, located.root};
  }
  session.place_ =
      std::make_unique<Destination>(Destination{open_place(address, options.open_store), {}, {}, {}});
  if (by_name)
    session.place_->named =
        options.destination.empty() ? session.job_->destinations.at(0) : options.destination;
  session.prove_drive();
  session.find_job(located.folder, options);
  session.named_set_ = located.set;
  session.asks_ = source == "ask" && !options.passphrase;
  if (!by_name && home != nullptr) session.home_memory_ = memory_of(*home, session.identity().job);
  if (options.recovery_key) {
    session.keys_ = std::make_shared<KeyRing>([] { return std::nullopt; });
    session.keys_->use_recovery_key(*options.recovery_key);
  } else {
    session.keys_ =
        key_ring(source, "passphrase of the archive sets of '" + printable(session.identity().name) + "'",
                 options.ask);
  }
  return session;
}

std::vector<LookSession> LookSession::open_each(const Home* home, const SubjectOptions& options,
                                                const std::function<void(const std::string&)>& away) {
  std::vector<LookSession> sessions;
  bool several = home != nullptr && options.destination.empty() && home->has_job(options.subject) &&
                 home->load_job(options.subject).destinations.size() > 1;
  if (!several) {
    sessions.push_back(open(home, options));
    return sessions;
  }
  std::optional<Error> first;
  for (const std::string& named : home->load_job(options.subject).destinations) {
    SubjectOptions one = options;
    one.destination = named;
    try {
      LookSession session = open(home, one);
      bool twice = std::any_of(sessions.begin(), sessions.end(),
                               [&](const LookSession& other) { return other.root() == session.root(); });
      if (!twice) sessions.push_back(std::move(session));
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::no_destination && error.kind() != ErrorKind::not_reachable) throw;
      if (!first) first = error;
      away(error.what());
    }
  }
  if (sessions.empty()) throw *first;
  return sessions;
}

const DriveState* LookSession::remembered_drive() const {
  return state_ && place_->drive ? state_->drive(place_->drive->id) : nullptr;
}

const SetList& LookSession::sets() const& {
  if (!sets_ && !has_identity()) sets_.emplace();
  if (!sets_) {
    const DriveState* drive = remembered_drive();
    sets_.emplace(store(), folder(), identity().job, drive != nullptr ? drive->newest_folder : std::string());
    leave_out_by_form(*sets_, own_rules());
  }
  return *sets_;
}

SetList& LookSession::own_sets() {
  sets();
  return *sets_;
}

bool LookSession::is_current() const {
  return !sets_ || sets_->is_current(store());
}

History& LookSession::history() const {
  if (history_) return *history_;
  const bool any = home_ != nullptr && access(home_->ledger_file().c_str(), F_OK) == 0;
  history_ = any ? History::open(*home_, [](const std::string&) {}) : History();
  return *history_;
}

// Of what nothing was said there is nothing to prove.
static bool worth_proving(const SetList& sets) {
  for (const FoundSet& set : sets) {
    if (set.not_ours == NotOurs::unknown) return true;
    if (!set.sealed() || !keeps_others_out(set.seal->keys)) continue;
    const SetFacts& facts = set.facts();
    if (set.twin || facts.standing.is != Standing::Is::by_rules || facts.guard != GuardMark::none)
      return true;
  }
  return false;
}

bool LookSession::prove_at_hand() {
  const bool at_hand = !asks_ || keys().recovery_key();
  const bool given = !job_ && at_hand;  // by a path nobody need give one
  if (proved_ || (!given && !worth_proving(own_sets()))) return true;
  if (!at_hand) return false;
  for (const FoundSet& set : proved_sets()) {
    if (!set.sealed() || !keeps_others_out(set.seal->keys)) continue;
    try {
      keys().unlock(set.seal->keys, set.facts().chain);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key && error.kind() != ErrorKind::damage) throw;
      return false;
    }
  }
  return true;
}

void LookSession::read_again() {
  sets_.reset();
  proved_ = false;
}

OwnRules LookSession::own_rules() const {
  return {job_ && job_->encryption != Encryption::none, state_ ? &state_->chain_keys : nullptr,
          job_ ? job_->name : std::string(), [this](const Id& set) { return history().knows_set(set); }};
}

const SetList& LookSession::proved_sets() {
  SetList& list = own_sets();
  if (!proved_ && job_) prove(list, keys(), own_rules(), KeysWanted::as_far_as_they_open);
  if (!proved_ && !job_)
    prove_by_path(list, keys(), {home_memory_ ? &home_memory_->chain_keys : nullptr, named_set_});
  proved_ = true;
  return list;
}

std::optional<Error> LookSession::refused_key() {
  SetList list = own_sets();
  try {
    prove(list, keys(), own_rules(), KeysWanted::newest);
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::key) throw;
    return error;
  }
  return std::nullopt;
}

std::vector<std::string> refused_passphrases(const Home& home, const Job& job, const OpenStore& open_store) {
  std::vector<std::string> lines;
  if (job.encryption == Encryption::none || job.passphrase == "ask") return lines;
  SubjectOptions options;
  options.subject = job.name;
  options.open_store = open_store;
  try {
    for (LookSession& session : LookSession::open_each(&home, options, [](const std::string&) {})) {
      if (std::optional<Error> refused = session.refused_key())
        lines.push_back(printable(session.root()) + ": " + refused->what() + "; " + refused->hint());
    }
  } catch (const Error&) {
    // No drive is there, or none that reads: that is told where it matters.
  }
  return lines;
}

bool LookSession::authenticated(const FoundSet& set) const {
  const Id& chain = set.facts().chain;
  KeyRing::Opened opened = keys().open(set.seal->keys, chain);
  if (opened.by == KeyEntryType::passphrase) return true;
  const std::optional<JobState>& memory = job_ ? state_ : home_memory_;
  if (opened.by == KeyEntryType::clear || !memory) return false;
  auto known = memory->chain_keys.find(chain);
  return known != memory->chain_keys.end() && known->second == key_check(opened.master);
}

std::vector<std::string> LookSession::unproved_lines() const {
  if (job_ || !proved_ || !sets_) return {};
  std::vector<std::string> lines = left_out_lines(*sets_);
  std::vector<Sequence> closed;
  for (const FoundSet& set : *sets_) {
    if (set.not_ours == NotOurs::closed) closed.push_back(set.folder.sequence);
  }
  if (!closed.empty())
    lines.push_back("the way in at hand does not open " +
                    std::string(closed.size() == 1 ? "point " : "points ") + sequences_text(closed));
  return lines;
}

std::string LookSession::anybody_wrote() const {
  if (job_) return {};
  bool any = false;
  for (const FoundSet& set : sets()) any = any || (set.sealed() && !keeps_others_out(set.seal->keys));
  return any ? "the sets of '" + printable(identity().name) + "' in " + printable(root()) +
                   " are not encrypted: anybody who could write there could have written them"
             : std::string();
}

std::string LookSession::older_state() const {
  std::string gone = missing_end();
  return gone.empty() ? broken_order() : gone;
}

// Each set names the one that was the newest when it was made. What was removed since leaves gaps, of which
// nothing can be said; neighbours must fit.
std::string LookSession::broken_order() const {
  const DriveState* drive = remembered_drive();
  if (drive == nullptr) return {};
  const FoundSet* before = nullptr;
  for (const FoundSet& set : sets()) {
    if (!set.sealed()) continue;
    bool neighbours = before != nullptr && before->folder.sequence + 1 == set.folder.sequence;
    bool as_made = neighbours && !before->facts().folded_from && !set.facts().folded_from;
    if (as_made && set.folder.sequence > drive->accepted && set.seal->core.previous &&
        *set.seal->core.previous != before->seal->core_digest)
      return "point " + std::to_string(set.folder.sequence) + " was not made after point " +
             std::to_string(before->folder.sequence) +
             " as it is there: the destination shows a mix of states";
    before = &set;
  }
  return {};
}

std::string LookSession::missing_end() const {
  const DriveState* drive = remembered_drive();
  if (drive == nullptr || !drive->newest_core) return {};
  std::optional<SetFolder> folder = parse_set_folder("", drive->newest_folder);
  Sequence number = folder ? folder->sequence : drive->highest;
  for (const FoundSet& set : sets()) {
    // Newer than what is remembered: it is the memory that is of an older state.
    if (set.sealed() && set.folder.sequence > number) return {};
    if (set.sealed() && set.seal->core_digest == *drive->newest_core) return {};
    if (set.superseded && set.superseded->core_digest == *drive->newest_core) return {};
    if (set.left_out && set.left_out->core_digest == *drive->newest_core) return {};
    // Its seal does not read, or was written by something newer: that is told of the set itself.
    if (!drive->newest_folder.empty() && !set.sealed() && set.folder.name == drive->newest_folder) return {};
  }
  return "point " + std::to_string(number) + " was made here" +
         (drive->written == Instant{} ? std::string() : " on " + local_text(drive->written)) +
         " and is gone: the destination shows an older state than this machine remembers";
}

namespace {

// A point that was given up is chosen by its number only.
bool fits(const FoundSet& set, const PointWish& wish) {
  if (!set.sealed()) return false;
  if (wish.by == PointWish::By::number) return set.folder.sequence == wish.number;
  if (set.facts().standing.given_up() || set.facts().doubted()) return false;
  return wish.by == PointWish::By::latest || set.facts().started <= wish.moment;
}

const FoundSet* newest_for(const SetList& sets, const PointWish& wish) {
  const FoundSet* chosen = nullptr;
  for (const FoundSet& set : sets) {
    if (!fits(set, wish)) continue;
    // Of a moment the latest date counts, whatever the order of the numbers: the clock may have been wrong.
    bool earlier = chosen != nullptr && wish.by == PointWish::By::moment &&
                   set.facts().started < chosen->facts().started;
    if (!earlier) chosen = &set;
  }
  return chosen;
}

// Why there is no such point.
[[noreturn]] void no_such_point(const SetList& sets, const PointWish& wish) {
  const FoundSet* oldest = nullptr;
  bool any_damage = false;
  for (const FoundSet& set : sets) {
    bool asked_for = wish.by == PointWish::By::number && set.folder.sequence == wish.number;
    if (asked_for && set.refusal) throw *set.refusal;
    if (asked_for && set.not_ours) throw not_ours_error(set);
    if (asked_for && !set.findings.empty()) throw damage(set.findings[0]);
    if (set.sealed() && oldest == nullptr) oldest = &set;
    any_damage = any_damage || !set.findings.empty();
  }
  if (oldest == nullptr) {
    for (const FoundSet& set : sets) {
      if (set.refusal) throw *set.refusal;
      if (set.not_ours) throw not_ours_error(set);
    }
    if (any_damage) throw damage("no set here has a seal that still reads");
    throw Error(ErrorKind::usage, "there is no point yet", "run the job first");
  }
  std::string there =
      "the points are " + point_text(oldest->facts()) + " to " + point_text(sets.newest()->facts());
  if (wish.by == PointWish::By::number)
    throw Error(ErrorKind::usage, "there is no point " + std::to_string(wish.number), there);
  throw Error(ErrorKind::usage, "there is no point as early as that", there);
}

}  // namespace

DrivePoint choose_drive(std::vector<LookSession>& sessions, const std::optional<std::string>& text,
                        Instant now) {
  // Which drive has the newest point is not for whoever writes on one of them to say.
  for (LookSession& session : sessions) session.proved_sets();
  std::size_t colon = text ? text->rfind(':') : std::string::npos;
  for (std::size_t i = 0; colon != std::string::npos && i < sessions.size(); ++i) {
    if (text->substr(0, colon) == sessions[i].drive_name())
      return {i, wish_for(sessions[i], text->substr(colon + 1), now)};
  }
  if (sessions.size() == 1) return {0, wish_for(sessions[0], text, now)};
  PointWish wish = wish_for(sessions[0], text, now);
  std::optional<std::size_t> best;
  Instant started;
  std::vector<std::string> on;
  for (std::size_t i = 0; i < sessions.size(); ++i) {
    const FoundSet* found = newest_for(sessions[i].sets(), wish);
    if (found == nullptr) continue;
    on.push_back(printable(sessions[i].drive_name()) + ":" + std::to_string(found->folder.sequence));
    if (best && found->facts().started <= started) continue;
    best = i;
    started = found->facts().started;
  }
  if (wish.by == PointWish::By::number && on.size() > 1)
    throw Error(ErrorKind::usage, "point " + std::to_string(wish.number) + " is on several drives",
                "say which: " + join(on, ", "));
  return {best.value_or(0), wish};
}

std::string point_text(const SetFacts& facts) {
  return std::to_string(facts.sequence) + " (" + std::string(kind_name(facts.kind)) + ", " +
         weekday_text(facts.started) + " " + local_text(facts.started, true) + ")";
}

PointWish wish_for(const LookSession& session, const std::optional<std::string>& text, Instant now) {
  if (!text) {
    if (session.named_set()) return {PointWish::By::number, *session.named_set(), {}};
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

const FoundSet& choose_point(const SetList& sets, const PointWish& wish) {
  if (const FoundSet* chosen = newest_for(sets, wish)) return *chosen;
  no_such_point(sets, wish);
}

}  // namespace kestrum
