// Of a run: the keys of the set to come, and what a run that was broken off has left of it.
#include "base/text.hpp"
#include "engine/job_run.hpp"
#include "engine/leftover_use.hpp"

namespace kestrum {

void JobRun::take_up_leftover(WriteSession& session, SetPlan& plan) {
  std::optional<Leftover> found = leftover_of(session);
  if (!found) return;
  LeftToGoOn left{std::move(*found), {}, {}};
  const OpenMark& mark = left.leftover.mark;
  std::string why;
  if (mark.kind != plan.decision.kind || mark.base != plan.decision.base ||
      (plan.decision.chain && mark.chain != *plan.decision.chain)) {
    why = "the next point does not build on the same one, or is of another kind";
  } else {
    why = unlock_left(session, left);
  }
  if (!why.empty()) return session.clear_leftover(why);
  plan.sequence = mark.sequence;
  plan.set = mark.set;
  plan.goes_on = std::move(left);
}

// Empty when its key is the one that this machine has begun that chain with.
std::string JobRun::unlock_left(WriteSession& session, LeftToGoOn& left) {
  const OpenMark& mark = left.leftover.mark;
  if (keeps_others_out(mark.keys) != (job_.encryption != Encryption::none))
    return "it is not encrypted as the job is now";
  const auto& known = session.memory().chain_keys;
  const auto pinned = known.find(mark.chain);
  if (pinned == known.end()) return "this machine does not know its key";
  try {
    left.master = keys_->unlock(mark.keys, mark.chain);
    left.naming = unbox_naming(mark.naming, left.master, mark.chain);
  } catch (const Error& error) {
    if (is_of_the_system(error)) throw;
    if (error.kind() == ErrorKind::key && !context_.meant.new_passphrase) refuse_left(mark.sequence);
    return "the job's passphrase does not open it";
  }
  return pinned->second == key_check(left.master) ? std::string()
                                                  : "it has another key than this machine knows";
}

// It may be the work of days, and the passphrase a slip of the finger.
void JobRun::refuse_left(Sequence point) const {
  const std::string job = shell_word(printable(job_.name));
  throw Error(ErrorKind::key,
              "the passphrase does not open what is there of point " + std::to_string(point) +
                  ", which is not finished",
              "if it is not the right one, mend that. If it is a new one: kestrum run " + job +
                  " --new-passphrase clears what is there; to keep it: kestrum passphrase change " + job +
                  " --old SOURCE. If neither is so, its open.json is damaged: kestrum stop " + job +
                  " --discard clears what is there");
}

// A slip of the finger in the first passphrase would only be noticed at the first restore.
void JobRun::confirm_passphrase(const SecretText& phrase) {
  if (job_.passphrase != "ask") return;
  std::optional<SecretText> again =
      context_.ask ? context_.ask("the same again, since nobody can bring it back") : std::nullopt;
  if (again != phrase) throw Error(ErrorKind::key, "the two passphrases are not the same", "run it again");
}

// A chain keeps the ways in that it began with.
void JobRun::note_recovery_key(const SetPlan& plan) {
  if (!keeps_others_out(plan.keys)) return;
  const std::vector<RecoveryPublic> there = recovery_parts(plan.keys);
  for (const std::string& file : job_.recovery_keys) {
    try {
      if (std::find(there.begin(), there.end(), read_recovery_public(file)) != there.end()) continue;
    } catch (const Error& error) {
      // This set needs no new way in; the next chain does.
      note(std::string(error.what()) + "; the next full set will need it");
      continue;
    }
    note("the recovery key of " + printable(file) +
         " does not open this chain, which began without it; to add it: kestrum recovery add " +
         shell_word(printable(job_.name)) + " " + shell_word(printable(file)));
  }
}

// The keys of the set to come: those of the chain that goes on, or new ones.
void JobRun::choose_keys(WriteSession& session, SetPlan& plan, const FoundSet* newest) {
  if (plan.decision.chain) {
    plan.chain = *plan.decision.chain;
    plan.keys = session.sets().sealed(*plan.decision.base)->seal->keys;
    plan.master = keys_->unlock(plan.keys, plan.chain);
    note_recovery_key(plan);
    const JobState& memory = session.memory();
    auto pinned = memory.chain_keys.find(plan.chain);
    if (pinned != memory.chain_keys.end() && pinned->second != key_check(plan.master)) {
      throw Error(
          ErrorKind::key,
          "the archive sets at the destination were written with another key than this machine remembers",
          "somebody may have replaced them; look at the destination before going on");
    }
  } else {
    begin_chain(session, plan, newest);
  }
  if (plan.goes_on) {
    plan.naming = plan.goes_on->naming;
  } else {
    choose_naming(session, plan, newest);
  }
}

// One key names the chunks of all chains, so that nothing is kept twice. One that stands on a drive for
// everybody to read never serves an encrypted chain, nor the other way round.
void JobRun::choose_naming(WriteSession& session, SetPlan& plan, const FoundSet* newest) {
  const JobState& memory = session.memory();
  bool open = !keeps_others_out(plan.keys);
  if (plan.decision.chain) {
    plan.naming = chain_->set(*plan.decision.base).naming_key();
  } else if (memory.naming && memory.naming_known == open) {
    plan.naming = *memory.naming;
  } else {
    plan.naming = newest != nullptr ? chain_->set(newest->folder.sequence).naming_key() : SecretKey::random();
  }
}

void JobRun::begin_chain(WriteSession& session, SetPlan& plan, const FoundSet* newest) {
  plan.chain = plan.goes_on ? plan.goes_on->leftover.mark.chain : random_id();
  plan.master = plan.goes_on ? plan.goes_on->master : SecretKey::random();
  if (job_.encryption == Encryption::none) {
    plan.keys = {make_clear_entry(plan.master)};
    return;
  }
  const std::optional<SecretText>& phrase = keys_->passphrase();
  if (!phrase) {
    throw Error(ErrorKind::key, "the job is encrypted and its passphrase was not given",
                "set [protect] passphrase = \"file:/path\", or run it on a terminal and type it");
  }
  if (session.sets().newest() == nullptr && !plan.goes_on) confirm_passphrase(*phrase);
  const std::vector<KeyEntry> none;
  plan.keys = {keys_->passphrase_entry(plan.master, plan.chain, *phrase, key_cost_of(job_, context_),
                                       newest != nullptr ? newest->seal->keys : none)};
  for (const std::string& file : job_.recovery_keys)
    plan.keys.push_back(make_recovery_entry(plan.master, read_recovery_public(file)));
  const auto is_passphrase = [](const KeyEntry& entry) { return entry.type == KeyEntryType::passphrase; };
  if (newest != nullptr &&
      std::count_if(newest->seal->keys.begin(), newest->seal->keys.end(), is_passphrase) > 1)
    note(
        "the new chain opens with the job's own passphrase only, not with one that was added before; to add "
        "it "
        "again: kestrum passphrase add " +
        shell_word(printable(job_.name)));
}

}  // namespace kestrum
