#include "base/text.hpp"
#include "engine/drive_trouble.hpp"
#include "engine/leftover_use.hpp"
#include "engine/own_folder.hpp"

namespace kestrum {

WriteSession::WriteSession(LookSession found, const RunContext& context)
    : LookSession(std::move(found)), context_(context) {
  try {
    open();
  } catch (const Error& error) {
    throw seen_with_drive(destination(), error);
  }
  context_.control.set_after_pause([this] { guard_->check(); });
}

void WriteSession::open() {
  refuse_not_own(false);
  claim_drive(place(), context_.clock);
  store().make_folders(folder());
  LockRequest request;
  request.machine = context_.machine;
  request.shared = destination().facts.network || !store().traits().renames;
  request.break_lock = context_.break_lock;
  request.timing = context_.lock_timing;
  request.note = [this](const std::string& text) { context_.observer.note(text); };
  request.control = &context_.control;
  lock_ = std::make_unique<JobLock>(store(), folder(), request);
  // Another process of this home may have begun meanwhile: what it remembers counts.
  reload_state();
  refuse_not_own(false);
  begin_memory();
  claim_job_folder(place(), *job(), memory(), context_.machine, context_.clock);
  for (const std::string& line : findings()) context_.observer.note(line);
  forget_findings();  // mended
  guard_ = std::make_unique<WriteGuard>(destination(), *lock_);
  read_again();
  const std::string in_drive = root() + "/" + folder();
  std::string others = others_may_write({root(), in_drive.substr(0, in_drive.rfind('/')), in_drive});
  if (!others.empty()) context_.observer.note(others);
  if (!store().flush_folder(folder()))
    context_.observer.note("the file system of " + printable(root()) +
                           " does not say when names of files are on the drive: unplug it only after it was "
                           "ejected");
}

// Not where the job's folder is another's: neither is anything written to it, nor cleared in it.
void WriteSession::refuse_not_own(bool with_points) {
  const DriveMeant& meant = context_.meant;
  const std::optional<NotOwn> why = not_own(*this, with_points);
  if (!why) return;
  const bool taken = why->why == NotOwn::Why::namesake ? meant.beside : meant.anything();
  if (!taken) throw not_own_error(*this, *why);
}

// Written down before there is anything on the drive to be found by it: a folder that a home does not
// remember is not its own.
void WriteSession::begin_memory() {
  const bool first = !has_identity();
  if (!own_state()) own_state() = context_.home.new_memory();
  if (!first) memory().job = identity().job;
  if (context_.home.machine() != Id{}) memory().machine = context_.home.machine();
  drive_ = &memory().use(destination().drive->id, destination().named);
  if (first) save_memory();
}

// What was found to be this home's own counts from now on as if it had been remembered.
void WriteSession::learn_newest() {
  const FoundSet* const newest = list().newest();
  if (newest == nullptr) return;
  const std::optional<SetFolder> known = parse_set_folder("", drive().newest_folder);
  if (known && known->sequence >= newest->folder.sequence) return;
  drive().newest_core = newest->seal->core_digest;
  drive().newest_folder = newest->folder.name;
  drive().written = newest->facts().started;
}

// So that each is missed that goes by no rule and no person.
void WriteSession::learn_points() {
  std::vector<KnownPoint> points;
  for (const FoundSet& set : list()) {
    if (!set.sealed()) continue;
    const SetFacts& facts = set.facts();
    points.push_back(
        {facts.set, facts.sequence, facts.kind, facts.started, facts.totals.files, facts.totals.bytes});
  }
  history().add_points(identity().job, destination().drive->id, points);
}

void WriteSession::leave_unremembered(Sequence point) {
  JobIdentity& own = *place().identity;
  own.unremembered = {context_.home.mark(), point};
  write_job_identity(store(), folder(), own);
}

void WriteSession::reload_state() {
  try {
    if (std::optional<JobState> now = context_.home.load_state(own_job().name)) own_state() = std::move(now);
  } catch (const Error&) {
    // It was told of when it was read first.
  }
}

WriteSession::~WriteSession() {
  context_.control.set_after_pause({});
}

// A rule or a person does, so that nobody misses it: with all that was folded into it.
static void let_go(History& history, const Id& job, const Id& drive, const SetFacts& facts, Instant now) {
  history.let_point_go(facts.set, now);
  if (!facts.folded_from) return;
  for (const KnownPoint& point : history.known_points(job, drive)) {
    if (facts.covers_from() <= point.sequence && point.sequence <= facts.sequence)
      history.let_point_go(point.set, now);
  }
}

// Before it goes: what is remembered may be of an older state than the drive, not the other way round.
void WriteSession::remember_newest_but(const FoundSet& set) {
  if (drive_ == nullptr || !set.sealed() || drive().newest_core != set.seal->core_digest) return;
  const FoundSet* before = nullptr;
  for (const FoundSet& other : list()) {
    if (other.sealed() && other.folder.sequence < set.folder.sequence) before = &other;
  }
  drive().newest_core.reset();
  drive().newest_folder.clear();
  if (before != nullptr) {
    drive().newest_core = before->seal->core_digest;
    drive().newest_folder = before->folder.name;
  }
  save_memory();
}

void WriteSession::restate(const FoundSet& set, const Standing& standing) {
  guard_->check();
  restate_set(store(), set, standing, keys().unlock(set.seal->keys, set.facts().chain));
  list().take_up(store(), std::string(set.folder.name));
}

void WriteSession::regard(const FoundSet& set, GuardMark mark) {
  guard_->check();
  regard_set(store(), set, mark, keys().unlock(set.seal->keys, set.facts().chain));
  list().take_up(store(), std::string(set.folder.name));
}

void WriteSession::rekey(const FoundSet& set, const std::vector<KeyEntry>& keys, const SecretKey& master) {
  guard_->check();
  rekey_set(store(), set, keys, master);
  list().take_up(store(), std::string(set.folder.name));
}

void WriteSession::remove(const FoundSet& set) {
  guard_->check();
  for (const std::optional<Seal>* seal : {&set.seal, &set.left_out, &set.superseded}) {
    if (*seal)
      let_go(history(), identity().job, destination().drive->id, (*seal)->core.facts, context_.clock.now());
  }
  remember_newest_but(set);
  SetFolder folder = set.folder;  // the list lets go of it
  remove_set_folder(store(), folder);
  list().forget(folder.path);
}

// What does not read is cleared, and it may be the work of days: only where it does not read twice, and the
// drive does read otherwise.
std::optional<Leftover> WriteSession::left_in(const SetFolder& set) const {
  try {
    return find_leftover(store(), set);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  store().read_all(folder() + "/" + job_identity_name, limits::seal_file);
  try {
    return find_leftover(store(), set);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    return std::nullopt;
  }
}

void WriteSession::tidy() {
  // What a folded set still takes files from is cleared by finish_fold, once there is a key to trust its
  // seal.
  std::set<std::string> covered;
  for (const FoundSet& folded : list()) {
    for (const SetFolder& folder : folded.covered) covered.insert(folder.path);
  }
  std::vector<FoundSet> half;  // the list changes below
  for (const FoundSet& found : list()) {
    bool is_half = (found.folder.unfinished || found.folder.removing) && !found.not_ours && !found.twice;
    if (is_half && !covered.contains(found.folder.path) && !found.refusal) half.push_back(found);
  }
  for (const FoundSet& found : half) {
    if (found.sealed()) {
      finish_last_strokes(found);
      continue;
    }
    std::string why;
    if (const std::optional<Leftover> left = left_in(found.folder)) {
      why = no_use(*left, *this);
      if (why.empty()) why = too_old(*left, context_.clock.now());
      if (why.empty()) continue;
      why = ": " + why;
    }
    context_.observer.note("cleared what an interrupted run had left: " + printable(found.folder.name) + why);
    drive().left = {};
    remove(found);
  }
}

void WriteSession::clear_leftover(const std::string& why) {
  const std::optional<Leftover> left = leftover_of(*this);
  if (!left) return;
  guard_->check();
  context_.observer.note("cleared what was left of point " + std::to_string(left->mark.sequence) + ": " +
                         why);
  remove_set_folder(store(), left->folder);
  list().forget(left->folder.path);
  drive().left = {};
  save_memory();
}

// Sealed, but interrupted before its last strokes.
void WriteSession::finish_last_strokes(const FoundSet& found) {
  guard_->check();
  std::string copy = found.folder.path + "/" + seal_copy_name;
  std::optional<Bytes> seal = store().try_read_all(found.folder.path + "/" + seal_name, limits::seal_file);
  if (seal && !store().exists(copy)) store().put(copy, *seal);
  std::string path = finish_set_folder(store(), found.folder.path);
  list().forget(found.folder.path);
  list().take_up(store(), path.substr(path.rfind('/') + 1));
  context_.observer.note("finished the name of set " + std::to_string(found.folder.sequence));
}

void WriteSession::prove_sets() {
  prove(list(), keys(), own_rules(), context_.meant.new_passphrase ? KeysWanted::some : KeysWanted::newest);
  refuse_not_own(true);
  learn_newest();
  take_new_name(place(), *job(), memory(), context_.machine);
  tidy();
  learn_points();
  for (const std::string& line : left_out_lines(list())) context_.observer.note(line);
  bool learnt = remember_closed();
  for (const FoundSet& set : list()) {
    bool encrypted = set.sealed() && keeps_others_out(set.seal->keys);
    if (!encrypted || own_job().encryption == Encryption::none) continue;
    const Id& chain = set.facts().chain;
    if (memory().chain_keys.contains(chain)) continue;
    const KeyRing::Opened opened = keys().open(set.seal->keys, chain);
    if (opened.by != KeyEntryType::passphrase) continue;  // it does not tell who has made the chain
    memory().chain_keys[chain] = key_check(opened.master);
    learnt = true;
  }
  if (learnt) save_memory();
}

// True when that is news.
bool WriteSession::remember_closed() {
  std::set<Id>& closed = memory().closed_chains;
  const std::set<Id> before = closed;
  for (const FoundSet& set : list()) {
    if (set.not_ours == NotOurs::closed) closed.insert(set.left_out->core.facts.chain);
    if (set.sealed()) closed.erase(set.facts().chain);
  }
  return closed != before;
}

void WriteSession::accept_state() {
  const FoundSet* newest = list().newest();
  drive().newest_core.reset();
  drive().newest_folder.clear();
  drive().accepted = newest != nullptr ? newest->folder.sequence : 0;
  if (newest != nullptr) {
    drive().newest_core = newest->seal->core_digest;
    drive().newest_folder = newest->folder.name;
  }
  save_memory();
}

// Everything that the folded set covers is there as it was: the covered sets are marked only after the check,
// and until then the folded set is the one that goes.
static bool still_whole(const FoundSet& folded) {
  bool marked = std::any_of(folded.covered.begin(), folded.covered.end(),
                            [](const SetFolder& folder) { return folder.removing; });
  // The last of the range, and whatever it takes files over from; what lay between may have been pruned
  // before.
  bool last = std::any_of(folded.covered.begin(), folded.covered.end(), [&](const SetFolder& folder) {
    return folder.sequence == folded.facts().sequence;
  });
  const std::vector<SealedFile>& files = folded.seal->core.files;
  bool holds_all = std::all_of(files.begin(), files.end(), [&](const SealedFile& file) {
    return file.set == folded.facts().set ||
           std::find(folded.covers.begin(), folded.covers.end(), file.set) != folded.covers.end();
  });
  return !marked && last && holds_all;
}

void WriteSession::finish_folds() {
  const SetList before = list();
  for (const FoundSet& set : before) {
    if (!set.sealed() || set.covered.empty()) continue;
    bool begun = !still_whole(set);
    std::string number = std::to_string(set.folder.sequence);
    try {
      SecretKey master = keys().unlock(set.seal->keys, set.facts().chain);
      SetReader authentic(store(), before.shared(set.folder.sequence), master);  // damage when it is not
      if (begun) {
        finish(set);
      } else {
        remove(set);
      }
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::damage) throw;
      context_.observer.note("the folding into set " + number + " is left as it is: " + error.what());
      continue;
    }
    context_.observer.note(
        (begun ? "completed the folding into set " : "took back an interrupted folding into set ") + number);
  }
}

void WriteSession::finish(const FoundSet& folded) {
  std::vector<SetFolder> covered = folded.covered;
  finish_fold(store(), folded, [this] { guard_->check(); });
  for (const SetFolder& folder : covered) list().forget(folder.path);
}

const FoundSet& WriteSession::sealed_now(const std::string& path, const Id& set) {
  list().take_up(store(), path.substr(path.rfind('/') + 1));
  for (const FoundSet& found : list()) {
    if (!found.sealed() || found.facts().set != set) continue;
    learn_points();
    return found;
  }
  throw damage("the set that was just sealed does not read");
}

void WriteSession::save_memory() {
  try {
    context_.home.save_state(job()->name, memory());
  } catch (const Error& error) {
    if (!memory_trouble_) memory_trouble_ = error;
  }
}

}  // namespace kestrum
