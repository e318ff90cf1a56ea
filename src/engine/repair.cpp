#include "engine/repair.hpp"

#include <algorithm>
#include <set>

#include "archive/set_folder.hpp"
#include "base/text.hpp"
#include "engine/each_drive.hpp"
#include "engine/job_check.hpp"
#include "engine/retaking.hpp"
#include "engine/seals_anew.hpp"

namespace kestrum {
namespace {

// One destination.
class Repair {
 public:
  // `writing`: the same session, where anything is to be changed.
  Repair(LookSession& session, WriteSession* writing, const RepairRequest& request,
         const std::vector<LookSession*>& others, const RunContext& context)
      : session_(session),
        writing_(writing),
        request_(request),
        others_(others),
        context_(context),
        parity_percent_(session.job() ? session.job()->parity_percent : 0) {
    options_.dry = request.dry;
    options_.progress = [this](std::uint64_t bytes) {
      checkpoint();
      context_.observer.advanced(bytes, 0);
    };
    options_.guard = [this] {
      if (writing_ != nullptr) writing_->guard().check();
    };
  }

  // Looks no longer than that.
  void end_at(std::chrono::steady_clock::time_point when) { end_at_ = when; }
  // Whether the time was enough.
  bool complete() const { return complete_; }

  // Sets of which something is to be mended.
  std::vector<SetRepair> mend(const VerifyResult& found) {
    context_.observer.phase_begins(Phase::mending, {});
    try {
      for (const PointVerdict& verdict : found.points) {
        if (verdict.facts && !verdict.closed) mend_set(verdict);
      }
      if (request_.dry ? any_lost() : found.damaged()) retake();
    } catch (const OutOfTime&) {
      complete_ = false;
    }
    std::vector<SetRepair> sets;
    for (const auto& [sequence, repair] : repairs_) {
      if (repair.any()) sets.push_back(repair);
    }
    return sets;
  }
  bool changed() const { return changed_; }

 private:
  struct OutOfTime {};
  void checkpoint() {
    context_.control.checkpoint();
    if (end_at_ && std::chrono::steady_clock::now() > *end_at_) throw OutOfTime();
  }

  std::shared_ptr<const FoundSet> set_of(Sequence sequence) { return session_.sets().shared(sequence); }
  SecretKey master_of(const FoundSet& set) {
    return session_.keys().unlock(set.seal->keys, set.facts().chain);
  }
  // What was read of the folder before holds no longer.
  void take_up(const FoundSet& set) {
    changed_ = true;
    writing_->list().take_up(session_.store(), std::string(set.folder.name));
  }

  void mend_set(const PointVerdict& verdict) {
    const Sequence sequence = verdict.facts->sequence;
    SetRepair& repair = repairs_[sequence];
    repair.facts = *verdict.facts;
    std::shared_ptr<const FoundSet> set = set_of(sequence);
    const SecretKey master = master_of(*set);
    if (!set->findings.empty() &&
        mend_seals(session_.store(), SetReader(session_.store(), set, master), options_)) {
      repair.seals = true;
      if (!request_.dry) take_up(*set);
      set = set_of(sequence);
    }
    if (!request_.dry) settle_mending(session_.store(), SetReader(session_.store(), set, master));
    lost_[sequence] = verdict.lost;
    mend_files(*set, master, verdict, repair);
    if (lost_[sequence].slots.contains(0)) make_index(sequence, repair);
    look_after_parity(sequence, verdict, repair);
  }

  void mend_files(const FoundSet& set, const SecretKey& master, const PointVerdict& verdict,
                  SetRepair& repair) {
    LostPlaces& lost = lost_[verdict.facts->sequence];
    std::set<std::uint32_t> slots = verdict.lost.slots;
    for (const auto& [slot, frames] : verdict.lost.frames) slots.insert(slot);
    if (slots.empty()) return;
    bool changed = false;
    std::optional<SetReader> reader;
    reader.emplace(session_.store(), set_of(verdict.facts->sequence), master);
    const std::set<std::uint32_t> with_parity = slots_with_parity(reader->seal());
    const std::vector<SealedFile> files = reader->seal().core.files;
    for (const SealedFile& file : files) {
      if (!slots.contains(file.slot)) continue;
      checkpoint();
      MendedFile mended{.name = file.name, .mending = {}, .trouble = {}};
      mended.has_parity = with_parity.contains(file.slot);
      // One that was mended is another file than the one that is open.
      if (!reader) reader.emplace(session_.store(), set_of(verdict.facts->sequence), master);
      try {
        if (mended.has_parity)
          mended.mending = mend_file(session_.store(), *reader, master, file.slot, options_);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        mended.trouble = error.what();
      }
      if (mended.mending.mended > 0 && !request_.dry) {
        changed = true;
        reader.reset();
      }
      if (mended.mending.whole) {
        lost.slots.erase(file.slot);
        lost.frames.erase(file.slot);
      }
      repair.files.push_back(std::move(mended));
    }
    if (!changed || request_.dry) return;
    take_up(set);
    lost = look_again(verdict.facts->sequence, master);
  }

  static std::set<std::uint32_t> slots_with_parity(const Seal& seal) {
    std::set<std::uint32_t> slots;
    for (const SealedParity& parity : seal.parity) slots.insert(parity.file.slot);
    return slots;
  }

  // What does not read after mending.
  LostPlaces look_again(Sequence sequence, const SecretKey& master) {
    SetReader reader(session_.store(), set_of(sequence), master);
    return check_set(reader, {.drop_cache = true, .workers = context_.workers, .progress = options_.progress})
        .places;
  }

  // Its volumes tell what is in them.
  void make_index(Sequence sequence, SetRepair& repair) {
    repair.index = true;
    if (request_.dry) return;
    const std::shared_ptr<const FoundSet> set = set_of(sequence);
    const SecretKey master = master_of(*set);
    SetReader reader(session_.store(), set, master);
    NewIndex index;
    index.records = records_of_volumes(reader, options_.progress);
    index.parity_percent = parity_percent_;
    replace_index(session_.store(), reader, master, std::move(index), options_);
    take_up(*set);
    lost_[sequence] = look_again(sequence, master);
  }

  // What is damaged of it is made anew, as long as what it belongs to is whole.
  void look_after_parity(Sequence sequence, const PointVerdict& verdict, SetRepair& repair) {
    if (!lost_[sequence].empty() || (verdict.parity.empty() && !request_.add_parity)) return;
    const std::shared_ptr<const FoundSet> set = set_of(sequence);
    const SecretKey master = master_of(*set);
    SetReader reader(session_.store(), set, master);
    const unsigned percent = parity_percent_ > 0 ? parity_percent_ : usual_parity_percent;
    repair.parity_made =
        renew_parity(session_.store(), reader, master, percent, request_.add_parity, options_);
    if (repair.parity_made > 0 && !request_.dry) take_up(*set);
  }

  bool any_lost() const {
    return std::any_of(lost_.begin(), lost_.end(), [](const auto& one) { return !one.second.empty(); });
  }

  // What its own set does not give any more, from elsewhere.
  void retake() {
    // With a page of a list that came back, more may be found missing that it names.
    while (retake_what_is_known() && !request_.dry) continue;
  }

  // In the order of the files that they are looked for in: each is read once.
  static void sort_by_file(std::vector<LostChunk>& chunks) {
    const auto key = [](const LostChunk& chunk) {
      return chunk.uses.empty() ? std::pair(TreePath(), std::uint64_t{0})
                                : std::pair(chunk.uses.front().entry->path, chunk.uses.front().at);
    };
    std::sort(chunks.begin(), chunks.end(),
              [&](const LostChunk& a, const LostChunk& b) { return key(a) < key(b); });
  }

  // False: nothing was found that could show more.
  bool retake_what_is_known() {
    ChainReader chain(session_.store(), session_.sets(), session_.keys());
    for (const auto& [sequence, lost] : lost_) {
      if (SetReader* const reader = chain.try_set(sequence)) reader->mark_lost(lost);
    }
    LostChunks missing = find_lost(chain, [this] { checkpoint(); });
    sort_by_file(missing.chunks);
    std::map<Sequence, std::uint64_t> left;
    Elsewhere elsewhere(others_);
    FromSources sources(session_.identity().machine == context_.machine);
    bool pages = false;
    std::map<Sequence, std::vector<FoundPiece>> found;
    for (const LostChunk& chunk : missing.chunks) {
      checkpoint();
      SetReader* const reader = chain.try_set(chunk.set);
      ++left[chunk.set];
      if (reader == nullptr || !asked_for_.insert({chunk.set, chunk.name}).second) continue;
      SetRepair& repair = repairs_[chunk.set];
      repair.facts = reader->facts();
      ++repair.pieces_lost;
      const Naming naming(reader->naming_key());
      std::optional<Bytes> content = fetch_from_sets(chain, chunk.name, naming);
      repair.from_sets += content ? 1 : 0;
      if (!content && (content = elsewhere.fetch(chunk.name, naming))) ++repair.from_elsewhere;
      if (!content && (content = sources.fetch(chunk, reader->naming_key()))) ++repair.from_sources;
      if (content) --left[chunk.set];
      if (!content || request_.dry) continue;
      pages = pages || chunk.kind == FrameKind::catalog;
      found[chunk.set].push_back({chunk.name, chunk.kind, std::move(*content)});
      if ((gathered_ += found[chunk.set].back().content.size()) < most_gathered) continue;
      for (auto& [sequence, pieces] : found) add_pieces(sequence, std::move(pieces));
      found.clear();
      gathered_ = 0;
    }
    for (auto& [sequence, pieces] : found) add_pieces(sequence, std::move(pieces));
    if (pages) return true;
    if (request_.dry || !missing.all) return false;
    // Files of which nothing that is needed is missing any more need not look damaged for ever.
    for (const auto& [sequence, lost] : lost_) {
      if (!lost.empty() && left[sequence] == 0) give_up(sequence, lost);
    }
    return false;
  }

  void give_up(Sequence sequence, const LostPlaces& lost) {
    std::set<std::uint32_t> slots = lost.slots;
    for (const auto& [slot, frames] : lost.frames) slots.insert(slot);
    slots.erase(0);
    if (slots.empty()) return;
    const std::shared_ptr<const FoundSet> set = set_of(sequence);
    const SecretKey master = master_of(*set);
    SetReader reader(session_.store(), set, master);
    reader.mark_lost(lost);
    give_up_lost(session_.store(), reader, master, slots, piece_options(), options_);
    take_up(*set);
  }

  PieceOptions piece_options() const {
    return {.level = session_.job()->level, .parity_percent = parity_percent_};
  }

  void add_pieces(Sequence sequence, std::vector<FoundPiece> pieces) {
    const std::shared_ptr<const FoundSet> set = set_of(sequence);
    const SecretKey master = master_of(*set);
    SetReader reader(session_.store(), set, master);
    reader.mark_lost(lost_[sequence]);
    put_pieces(session_.store(), reader, master, pieces, piece_options(), options_);
    take_up(*set);
  }

  static constexpr unsigned usual_parity_percent = 5;
  static constexpr std::uint64_t most_gathered = 64u << 20;  // bytes in memory
  LookSession& session_;
  WriteSession* writing_;
  const RepairRequest& request_;
  const std::vector<LookSession*>& others_;
  const RunContext& context_;
  unsigned parity_percent_;
  MendOptions options_;
  std::map<Sequence, SetRepair> repairs_;
  std::map<Sequence, LostPlaces> lost_;  // what does not read now
  std::set<std::pair<Sequence, ChunkName>> asked_for_;
  std::uint64_t gathered_ = 0;
  bool changed_ = false, complete_ = true;
  std::optional<std::chrono::steady_clock::time_point> end_at_;
};

VerifyResult checked(LookSession& session, const RunContext& context, History& history) {
  VerifyRequest request;
  request.workers = context.workers;
  request.machine = context.machine;
  request.round.anew = true;
  return verify(session, request, context.clock, &history, context.observer, context.control);
}

RepairResult repair_drive(WriteSession& session, const RepairRequest& request,
                          const std::vector<LookSession*>& others, History& history) {
  const RunContext& context = session.context();
  RepairResult result;
  result.root = session.root();
  const Destination& place = session.destination();
  if (place.drive_file_lost) result.identities.emplace_back(drive_name);
  if (place.job_file_lost) result.identities.push_back(in_folder(place.folder, job_identity_name));
  SealedAnew anew = seal_lost_sets(session, request.dry);
  result.sealed_anew = std::move(anew.sets);
  result.not_sealed = std::move(anew.not_sealed);
  result.changed = !request.dry && !result.sealed_anew.empty();
  result.found = checked(session, context, history);
  Repair repair(session, &session, request, others, context);
  result.sets = repair.mend(result.found);
  result.changed = result.changed || repair.changed();
  result.left = result.changed ? checked(session, context, history) : result.found;
  return result;
}

}  // namespace

Prospects mending_prospects(LookSession& session, const VerifyResult& found,
                            const std::vector<LookSession*>& others, const RunContext& context,
                            std::chrono::seconds longest) {
  const RepairRequest request{.dry = true};
  Repair repair(session, nullptr, request, others, context);
  repair.end_at(std::chrono::steady_clock::now() + longest);
  Prospects prospects;
  prospects.sets = repair.mend(found);
  prospects.complete = repair.complete();
  return prospects;
}

std::vector<RepairResult> repair_job(const std::string& name, const RepairRequest& request,
                                     const RunContext& context) {
  EachDrive drives(name, context);
  if (request.add_parity && drives.job.parity_percent == 0)
    throw Error(
        ErrorKind::usage, "the job '" + printable(name) + "' has no parity: [protect] parity is off",
        "say how much first: kestrum job edit " + shell_word(printable(name)) + " --protect-parity 5%");
  std::vector<RepairResult> results;
  // Everything is checked: that does for a check that is due.
  JobCheck check = begin_check(name, CheckKind::check, drives.history, context.clock);
  std::size_t count = 1;
  for (std::size_t i = 0; i < count; ++i) {
    std::vector<LookSession> all;
    drives.visit([&](LookSession session) { all.push_back(std::move(session)); });
    count = all.size();
    std::vector<LookSession*> others;
    for (std::size_t other = 0; other < all.size(); ++other) {
      if (other != i) others.push_back(&all[other]);
    }
    drives.change_one(std::move(all[i]), [&](WriteSession& session) {
      results.push_back(repair_drive(session, request, others, drives.history));
    });
  }
  std::vector<DriveVerdict> left;
  for (const RepairResult& result : results) left.push_back({result.root, result.left});
  end_check(check, left, {}, drives.history, context.clock);
  return results;
}

}  // namespace kestrum
