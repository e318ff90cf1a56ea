#include "engine/ways_in.hpp"

#include <algorithm>
#include <set>

#include "archive/chunk_types.hpp"
#include "base/text.hpp"
#include "engine/leftover_use.hpp"
#include "engine/look.hpp"
#include "engine/way_proof.hpp"
#include "job/job_edit.hpp"

namespace kestrum {
namespace {

using Keys = std::vector<KeyEntry>;

using EntryId = std::array<std::uint8_t, 8>;

// What a chain's entries become.
using ChangeKeys = std::function<Keys(const Id& chain, const SecretKey& master, Keys keys)>;

// A job's drives, gone through as often as there are passes.
class AllWays {
 public:
  AllWays(const std::string& name, const RunContext& context, const std::string& opened_by = {})
      : drives_(name, context) {
    if (drives_.job.encryption == Encryption::none)
      throw Error(ErrorKind::usage, "the job '" + printable(name) + "' is not encrypted: everybody is in",
                  "to encrypt it: kestrum job edit " + shell_word(printable(name)) +
                      " --protect-encryption aes-256-gcm");
    if (opened_by.empty()) return;
    Job other = drives_.job;
    other.passphrase = opened_by;
    drives_.keys = job_keys(other, context.ask);
  }

  const Job& job() const { return drives_.job; }
  KeyRing& keys() { return *drives_.keys; }
  Argon2Cost cost() const { return key_cost_of(drives_.job, drives_.context); }
  const RunContext& context() const { return drives_.context; }
  void open_by(const RecoveryKey& key) {
    drives_.keys = std::make_shared<KeyRing>([] { return std::nullopt; });
    keys().use_recovery_key(key);
    known_only_ = true;
  }

  // `found`: is shown the entries of all seals of a drive before any is changed.
  void pass(const ChangeKeys& change, const std::function<void(const Id& chain, const Keys&)>& found = {}) {
    std::set<std::string> there;
    drives_.visit([&](LookSession session) {
      there.insert(session.destination().named);
      const std::map<Id, Digest> known = session.state()->chain_keys;
      drives_.change_one(std::move(session), [&](WriteSession& open) {
        if (found) {
          for (const FoundSet& set : open.sets()) {
            if (set.sealed()) found(set.facts().chain, set.seal->keys);
          }
        }
        change_drive(open, known, change);
      });
    });
    outcome_.away.clear();
    for (const std::string& named : job().destinations) {
      if (!there.contains(named)) outcome_.away.push_back(named);
    }
  }

  // `key`: of [protect].
  void edit_job(const std::string& key, const KeyValues& values) {
    const JobKey* const which = find_job_key("protect", key);
    const KeyChange change{which, values.empty() ? std::nullopt : std::optional(values)};
    const std::string text = edit_job_text(job().name, job().file, job().text, {change});
    if (text == job().text) return;
    context().home.change_job(job().name, job().text, text);
    outcome_.job_changed = true;
  }

  // Entries that are to go: known to this home until they have gone everywhere.
  std::set<EntryId> leaving() const {
    const std::optional<JobState> state = context().home.load_state(job().name);
    return state ? state->leaving : std::set<EntryId>();
  }
  void remember_leaving(const std::set<EntryId>& entries) {
    std::optional<JobState> state = context().home.load_state(job().name);
    if (!state || state->leaving == entries) return;
    state->leaving = entries;
    context().home.save_state(job().name, *state);
  }
  bool everywhere() const { return outcome_.away.empty(); }

  void forget_proofs(const std::optional<RecoveryPublic>& recovery) {
    for (const Id& drive : changed_) forget_way_proofs(context().home, job().name, drive, recovery);
  }

  WaysOutcome take() { return std::move(outcome_); }

 private:
  // With a recovery key alone nobody can tell who wrote a set: only chains that this machine knows count.
  bool trusts(const std::map<Id, Digest>& known, const Id& chain, const SecretKey& master) const {
    if (!known_only_) return true;
    const auto pinned = known.find(chain);
    return pinned != known.end() && pinned->second == key_check(master);
  }

  void change_drive(WriteSession& session, const std::map<Id, Digest>& known, const ChangeKeys& change) {
    WaysOnDrive& drive = row(session);
    drive.points = drive.closed = 0;
    std::vector<Sequence> points;
    for (const FoundSet& set : session.sets()) {
      if (set.not_ours == NotOurs::closed) ++drive.closed;
      if (set.sealed() && keeps_others_out(set.seal->keys)) points.push_back(set.folder.sequence);
    }
    for (const Sequence point : points) {
      context().control.checkpoint();
      const FoundSet& set = *session.sets().sealed(point);
      const Id chain = set.facts().chain;
      const SecretKey master = keys().unlock(set.seal->keys, chain);
      if (!trusts(known, chain, master)) continue;
      ++drive.points;
      const Keys wanted = changed(change, chain, master, set.seal->keys);
      if (same(wanted, set.seal->keys)) continue;
      session.rekey(set, wanted, master);
      if (rekeyed_[session.destination().drive->id].insert(point).second) ++drive.changed;
    }
    drive.unfinished = change_leftover(session, change) || drive.unfinished;
    changed_.insert(session.destination().drive->id);
  }

  bool change_leftover(WriteSession& session, const ChangeKeys& change) {
    std::optional<Leftover> left = leftover_of(session);
    if (!left || !keeps_others_out(left->mark.keys)) return false;
    const Id chain = left->mark.chain;
    try {
      const SecretKey master = keys().unlock(left->mark.keys, chain);
      const auto pinned = session.memory().chain_keys.find(chain);
      if (pinned == session.memory().chain_keys.end() || pinned->second != key_check(master)) return false;
      const Keys wanted = changed(change, chain, master, left->mark.keys);
      if (same(wanted, left->mark.keys)) return false;
      session.guard().check();
      rekey_leftover(session.store(), *left, wanted);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::key && error.kind() != ErrorKind::damage) throw;
      return false;  // the next run says what is wrong with it
    }
    return true;
  }

  static Keys changed(const ChangeKeys& change, const Id& chain, const SecretKey& master, const Keys& keys) {
    Keys wanted = change(chain, master, keys);
    if (wanted.size() > limits::key_entries)
      throw Error(ErrorKind::failed,
                  "a chain has " + std::to_string(keys.size()) + " ways in already, which is the most",
                  "take one away first");
    return wanted;
  }

  static bool same(const Keys& a, const Keys& b) {
    return a.size() == b.size() && std::equal(a.begin(), a.end(), b.begin(), same_entry);
  }

  WaysOnDrive& row(const WriteSession& session) {
    for (WaysOnDrive& drive : outcome_.drives) {
      if (drive.root == session.root()) return drive;
    }
    return outcome_.drives.emplace_back(WaysOnDrive{.drive = session.drive_name(), .root = session.root()});
  }

  EachDrive drives_;
  bool known_only_ = false;
  std::set<Id> changed_;                      // drives
  std::map<Id, std::set<Sequence>> rekeyed_;  // points of each, by whichever pass
  WaysOutcome outcome_;
};

// One new passphrase: the same entry in all seals of a chain, one salt for all chains.
class NewPassphrase {
 public:
  NewPassphrase(AllWays& ways, SecretText passphrase) : ways_(ways), passphrase_(std::move(passphrase)) {}

  bool opens(const KeyEntry& entry, const Id& chain) {
    return ways_.keys().open_with(passphrase_, entry, chain).has_value();
  }

  // It is the new way itself, at the cost that is wanted now.
  bool made_now(const KeyEntry& entry, const Id& chain) {
    return entry.cost == ways_.cost() && opens(entry, chain);
  }

  // One that a seal of that chain has already, from a change that was broken off.
  void learn(const Id& chain, const Keys& keys) {
    for (const KeyEntry& entry : keys) {
      if (entry.type == KeyEntryType::passphrase && !made_.contains(chain) && made_now(entry, chain))
        made_.emplace(chain, entry);
    }
  }

  Keys added(const Id& chain, const SecretKey& master, Keys keys) {
    const bool there =
        std::any_of(keys.begin(), keys.end(), [&](const KeyEntry& entry) { return made_now(entry, chain); });
    if (there) return keys;
    auto made = made_.find(chain);
    if (made == made_.end()) {
      Keys like;
      for (const auto& [other, entry] : made_) like.push_back(entry);
      KeyEntry entry = ways_.keys().passphrase_entry(master, chain, passphrase_, ways_.cost(), like);
      made = made_.emplace(chain, std::move(entry)).first;
    }
    keys.push_back(made->second);
    return keys;
  }

  // `found`: is shown the entries of each seal of a drive before any is changed.
  void add_everywhere(const std::function<void(const Id& chain, const Keys&)>& found = {}) {
    ways_.pass([this](const Id& chain, const SecretKey& master,
                      Keys keys) { return added(chain, master, std::move(keys)); },
               [&](const Id& chain, const Keys& keys) {
                 learn(chain, keys);
                 if (found) found(chain, keys);
               });
  }

 private:
  AllWays& ways_;
  SecretText passphrase_;
  std::map<Id, KeyEntry> made_;  // by chain
};

SecretText need(std::optional<SecretText> passphrase) {
  if (!passphrase)
    throw Error(ErrorKind::key, "there is nobody to ask for the passphrase: this is no terminal",
                "name a file that only you can read, as file:/path");
  return std::move(*passphrase);
}

// One that sets will open with from now on: a slip of the finger would show when it is needed.
SecretText new_passphrase(const std::string& source, const std::string& job, const RunContext& context) {
  SecretText first =
      need(get_passphrase(source, "new passphrase of the job '" + printable(job) + "'", context.ask));
  if (source == "ask" && need(context.ask("the same again, since nobody can bring it back")) != first)
    throw Error(ErrorKind::key, "the two passphrases are not the same", "run it again; nothing was changed");
  if (std::string weakness = weakness_of(first); !weakness.empty()) context.observer.note(weakness);
  return first;
}

// Public parts as the job's files have them; nothing of a file that does not read.
std::vector<std::string> files_of(const Job& job, const RecoveryPublic& part, bool with) {
  std::vector<std::string> files;
  for (const std::string& file : job.recovery_keys) {
    bool same = false;
    try {
      same = read_recovery_public(file) == part;
    } catch (const Error&) {
      // It is none that could be compared.
    }
    if (same == with) files.push_back(file);
  }
  return files;
}

bool is_of(const KeyEntry& entry, const RecoveryPublic& part) {
  return entry.type == KeyEntryType::recovery && entry.public_key == to_bytes(part);
}

}  // namespace

std::uint64_t WaysOutcome::changed() const {
  std::uint64_t all = 0;
  for (const WaysOnDrive& drive : drives) all += drive.changed + (drive.unfinished ? 1 : 0);
  return all;
}

// The passphrase of before; nothing where a recovery key opens instead, or where the job's file names the new
// one already and it is known what is still to go.
static std::optional<SecretText> open_as_before(AllWays& ways, const PassphraseChange& change,
                                                const std::string& source, bool completes) {
  if (completes) return std::nullopt;
  if (change.old_key) {
    ways.open_by(*change.old_key);
    return std::nullopt;
  }
  if (source == (change.old_source.empty() ? ways.job().passphrase : change.old_source) && source != "ask")
    throw Error(ErrorKind::usage, "the old and the new passphrase would come from the same file",
                "name the file of the new one with --new, or of the one before with --old");
  return need(ways.keys().passphrase());
}

WaysOutcome change_passphrase(const std::string& job, const PassphraseChange& change,
                              const RunContext& context) {
  AllWays ways(job, context, change.old_source);
  const std::string source = change.new_source.empty() ? ways.job().passphrase : change.new_source;
  std::set<EntryId> leaving = ways.leaving();
  const bool completes = !leaving.empty() && !change.old_key && change.old_source.empty() &&
                         source == ways.job().passphrase && source != "ask";
  const std::optional<SecretText> old = open_as_before(ways, change, source, completes);
  SecretText wanted = completes ? need(ways.keys().passphrase()) : new_passphrase(source, job, context);
  if (old == wanted)
    throw Error(
        ErrorKind::usage, "the new passphrase is the old one",
        "to complete a change that was broken off, name the passphrase of before: --old file:/path, or "
        "--old ask");
  ways.keys().also(wanted);
  NewPassphrase passphrase(ways, std::move(wanted));
  const auto goes = [&](const KeyEntry& entry, const Id& chain) {
    if (entry.type != KeyEntryType::passphrase || passphrase.made_now(entry, chain)) return false;
    if (leaving.contains(entry.id)) return true;
    if (completes) return false;
    return !old || ways.keys().open_with(*old, entry, chain).has_value();
  };
  passphrase.add_everywhere([&](const Id& chain, const Keys& keys) {
    for (const KeyEntry& entry : keys) {
      if (goes(entry, chain)) leaving.insert(entry.id);
    }
  });
  // Before the job's file names the new one: from then on only this tells what is still to go.
  ways.remember_leaving(leaving);
  ways.edit_job("passphrase", {source});
  // What a run has begun meanwhile with the old one gets the new one in the same stroke.
  ways.pass([&](const Id& chain, const SecretKey& master, Keys keys) {
    Keys with = passphrase.added(chain, master, std::move(keys));
    std::erase_if(with, [&](const KeyEntry& entry) { return goes(entry, chain); });
    return with;
  });
  if (ways.everywhere()) ways.remember_leaving({});
  ways.forget_proofs(std::nullopt);
  return ways.take();
}

WaysOutcome add_passphrase(const std::string& job, const std::string& source, const RunContext& context) {
  AllWays ways(job, context);
  const SecretText own = need(ways.keys().passphrase());
  SecretText wanted = new_passphrase(source, job, context);
  if (own == wanted)
    throw Error(ErrorKind::usage, "that is the job's own passphrase", "there is nothing to add");
  NewPassphrase(ways, std::move(wanted)).add_everywhere();
  return ways.take();
}

WaysOutcome remove_passphrase(const std::string& job, const std::string& source, const RunContext& context) {
  AllWays ways(job, context);
  const SecretText own = need(ways.keys().passphrase());
  const SecretText old =
      need(get_passphrase(source, "passphrase to take away from '" + printable(job) + "'", context.ask));
  if (own == old)
    throw Error(ErrorKind::usage, "that is the job's own passphrase: its runs could open nothing any more",
                "to change it: kestrum passphrase change " + shell_word(printable(job)));
  ways.pass([&](const Id& chain, const SecretKey&, Keys keys) {
    std::erase_if(
        keys, [&](const KeyEntry& entry) { return ways.keys().open_with(old, entry, chain).has_value(); });
    return keys;
  });
  // Whichever way a change that was broken off is ended: nothing is to go any more.
  if (ways.everywhere()) ways.remember_leaving({});
  ways.forget_proofs(std::nullopt);
  return ways.take();
}

WaysOutcome add_recovery_key(const std::string& job, const std::string& file, const RunContext& context) {
  const RecoveryPublic part = read_recovery_public(file);
  AllWays ways(job, context);
  ways.pass([&](const Id&, const SecretKey& master, Keys keys) {
    if (std::none_of(keys.begin(), keys.end(), [&](const KeyEntry& entry) { return is_of(entry, part); }))
      keys.push_back(make_recovery_entry(master, part));
    return keys;
  });
  if (files_of(ways.job(), part, true).empty()) {
    KeyValues files = ways.job().recovery_keys;
    files.push_back(file);
    ways.edit_job("recovery-key", files);
  }
  return ways.take();
}

WaysOutcome remove_recovery_key(const std::string& job, const std::string& file, const RunContext& context) {
  const RecoveryPublic part = read_recovery_public(file);
  AllWays ways(job, context);
  // The job first: a chain that begins meanwhile must not get it any more.
  if (!files_of(ways.job(), part, true).empty())
    ways.edit_job("recovery-key", files_of(ways.job(), part, false));
  ways.pass([&](const Id&, const SecretKey&, Keys keys) {
    std::erase_if(keys, [&](const KeyEntry& entry) { return is_of(entry, part); });
    return keys;
  });
  ways.forget_proofs(part);
  return ways.take();
}

namespace {

// The list of files of a chain's newest point, from its top page on: with the key nothing else is in the way.
std::string read_top(LookSession& session, Sequence point) {
  try {
    OpenPoint open(session, {PointWish::By::number, point, {}});
    open.catalog().next();
    return {};
  } catch (const Error& error) {
    return error.what();
  }
}

}  // namespace

bool WayTest::everything() const {
  return (!encrypted || !chains.empty()) &&
         std::all_of(chains.begin(), chains.end(), [](const Chain& chain) { return chain.trouble.empty(); });
}

static void try_seal(LookSession& session, const FoundSet& set, WayTest::Chain& chain) {
  try {
    const SecretKey master = session.keys().unlock(set.seal->keys, set.facts().chain);
    if (!seal_is_authentic(*set.seal, master))
      throw damage("the seal of point " + std::to_string(set.folder.sequence) +
                   " was not written with its chain's key");
    unbox_root(*set.seal, master);
    ++chain.opened;
  } catch (const Error& error) {
    if (is_of_the_system(error)) throw;
    if (chain.trouble.empty()) chain.trouble = error.what();
  }
}

// One that is not finished is all that there may be yet.
static void try_leftover(LookSession& session, WayTest& test) {
  const std::optional<Leftover> left = leftover_that_reads(session);
  if (!left || !keeps_others_out(left->mark.keys)) return;
  test.encrypted = true;
  WayTest::Chain chain{.first = left->mark.sequence,
                       .last = left->mark.sequence,
                       .points = 1,
                       .unfinished = true,
                       .trouble = {}};
  try {
    session.keys().unlock(left->mark.keys, left->mark.chain);
    ++chain.opened;
  } catch (const Error& error) {
    if (is_of_the_system(error)) throw;
    chain.trouble = error.what();
  }
  test.chains.push_back(std::move(chain));
}

OldWay old_way(const LookSession& session) {
  OldWay way;
  std::map<Id, std::vector<const Seal*>> chains;
  for (const FoundSet& set : session.sets()) {
    if (set.sealed() && keeps_others_out(set.seal->keys)) chains[set.facts().chain].push_back(&*set.seal);
  }
  const std::set<EntryId> none;
  const std::set<EntryId>& leaving = session.state() ? session.state()->leaving : none;
  for (const auto& [chain, seals] : chains) {
    std::size_t least = SIZE_MAX;
    const auto passphrases = [](const Seal& seal) {
      return static_cast<std::size_t>(
          std::count_if(seal.keys.begin(), seal.keys.end(),
                        [](const KeyEntry& entry) { return entry.type == KeyEntryType::passphrase; }));
    };
    for (const Seal* seal : seals) least = std::min(least, passphrases(*seal));
    for (const Seal* seal : seals) {
      const bool leaves = std::any_of(seal->keys.begin(), seal->keys.end(),
                                      [&](const KeyEntry& entry) { return leaving.contains(entry.id); });
      way.points += leaves || passphrases(*seal) > least ? 1 : 0;
    }
  }
  return way;
}

std::string old_way_advice(const std::string& job) {
  return "to complete it: kestrum passphrase change " + shell_word(printable(job)) +
         " --new SOURCE, as before";
}

std::string OldWay::text() const {
  if (points == 0) return {};
  return "an earlier passphrase still opens " + count_text(points, "point") +
         ": its change was broken off, or has not come to this drive";
}

WayTest test_way(LookSession& session) {
  WayTest test{.drive = session.drive_name(), .root = session.root(), .chains = {}};
  std::map<Id, std::size_t> places;
  for (const FoundSet& set : with_closed(session.sets())) {
    if (!set.sealed() || !keeps_others_out(set.seal->keys)) continue;
    test.encrypted = true;
    const auto [place, is_new] = places.try_emplace(set.facts().chain, test.chains.size());
    if (is_new) test.chains.push_back({.first = set.folder.sequence, .trouble = {}});
    WayTest::Chain& chain = test.chains[place->second];
    chain.last = set.folder.sequence;
    ++chain.points;
    try_seal(session, set, chain);
  }
  for (WayTest::Chain& chain : test.chains) {
    if (chain.trouble.empty()) chain.trouble = read_top(session, chain.last);
  }
  try_leftover(session, test);
  test.encrypted = test.encrypted || (session.job() && session.job()->encryption != Encryption::none);
  return test;
}

}  // namespace kestrum
