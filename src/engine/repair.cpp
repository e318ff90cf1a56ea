#include "engine/repair.hpp"

#include "base/text.hpp"
#include "engine/each_drive.hpp"
#include "engine/retaking.hpp"

namespace kestrum {
namespace {

// One destination.
class Repair {
 public:
  Repair(WriteSession& session, const RepairRequest& request, const std::vector<LookSession*>& others,
         History& history)
      : session_(session),
        request_(request),
        others_(others),
        context_(session.context()),
        history_(history),
        parity_percent_(session.own_job().parity_percent) {
    options_.dry = request.dry;
    options_.progress = [this](std::uint64_t bytes) {
      context_.control.checkpoint();
      context_.observer.advanced(bytes, 0);
    };
    options_.guard = [this] { session_.guard().check(); };
  }

  RepairResult run() {
    result_.root = session_.root();
    result_.found = checked();
    context_.observer.phase_begins(Phase::mending, {});
    for (const PointVerdict& verdict : result_.found.points) {
      if (verdict.facts && !verdict.closed) mend_set(verdict);
    }
    if (request_.dry ? any_lost() : result_.found.damaged()) retake();
    for (const auto& [sequence, repair] : repairs_) {
      if (repair.any()) result_.sets.push_back(repair);
    }
    result_.left = result_.changed ? checked() : result_.found;
    return std::move(result_);
  }

 private:
  VerifyResult checked() {
    VerifyRequest request;
    request.workers = context_.workers;
    request.machine = context_.machine;
    request.round.anew = true;
    return verify(session_, request, context_.clock, &history_, context_.observer, context_.control);
  }

  std::shared_ptr<const FoundSet> set_of(Sequence sequence) { return session_.sets().shared(sequence); }
  SecretKey master_of(const FoundSet& set) {
    return session_.keys().unlock(set.seal->keys, set.facts().chain);
  }
  // What was read of the folder before holds no longer.
  void take_up(const FoundSet& set) {
    result_.changed = true;
    session_.list().take_up(session_.store(), std::string(set.folder.name));
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
    bool changed = false;
    for (const std::uint32_t slot : slots) {
      SetReader reader(session_.store(), set_of(verdict.facts->sequence), master);
      const SealedFile* const file = reader.sealed_file(slot);
      if (file == nullptr) continue;
      MendedFile mended{.name = file->name, .mending = {}, .trouble = {}};
      for (const SealedParity& parity : reader.seal().parity)
        mended.has_parity = mended.has_parity || parity.file.slot == slot;
      try {
        mended.mending = mend_file(session_.store(), reader, master, slot, options_);
      } catch (const Error& error) {
        if (!does_not_read(error)) throw;
        mended.trouble = error.what();
      }
      changed = changed || mended.mending.mended > 0;
      if (mended.mending.whole) {
        lost.slots.erase(slot);
        lost.frames.erase(slot);
      }
      repair.files.push_back(std::move(mended));
    }
    if (!changed || request_.dry) return;
    take_up(set);
    lost = look_again(verdict.facts->sequence, master);
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

  // What no set of this destination gives any more, from elsewhere.
  void retake() {
    ChainReader chain(session_.store(), session_.sets(), session_.keys());
    for (const auto& [sequence, lost] : lost_) {
      if (SetReader* const reader = chain.try_set(sequence)) reader->mark_lost(lost);
    }
    const LostChunks missing = find_lost(chain, context_.control);
    std::map<Sequence, std::uint64_t> left;
    Elsewhere elsewhere(others_);
    DiskToday today(session_.identity().machine == context_.machine);
    std::map<Sequence, std::vector<FoundPiece>> found;
    for (const auto& [name, chunk] : missing.chunks) {
      context_.control.checkpoint();
      SetReader* const reader = chain.try_set(chunk.set);
      ++left[chunk.set];
      if (reader == nullptr) continue;
      SetRepair& repair = repairs_[chunk.set];
      repair.facts = reader->facts();
      ++repair.pieces_lost;
      const Naming naming(reader->naming_key());
      std::optional<Bytes> content = elsewhere.fetch(name, naming);
      repair.from_elsewhere += content ? 1 : 0;
      if (!content && (content = fetch_from_source(name, chunk, naming, today))) ++repair.from_sources;
      if (content) --left[chunk.set];
      if (!content || request_.dry) continue;
      found[chunk.set].push_back({name, chunk.kind, std::move(*content)});
      if ((gathered_ += found[chunk.set].back().content.size()) < most_gathered) continue;
      for (auto& [sequence, pieces] : found) add_pieces(sequence, std::move(pieces));
      found.clear();
      gathered_ = 0;
    }
    for (auto& [sequence, pieces] : found) add_pieces(sequence, std::move(pieces));
    if (request_.dry || !missing.all) return;
    // Files of which nothing that is needed is missing any more need not look damaged for ever.
    for (const auto& [sequence, lost] : lost_) {
      if (!lost.empty() && left[sequence] == 0) give_up(sequence, lost);
    }
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
    return {.level = session_.own_job().level, .parity_percent = parity_percent_};
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
  WriteSession& session_;
  const RepairRequest& request_;
  const std::vector<LookSession*>& others_;
  const RunContext& context_;
  History& history_;
  unsigned parity_percent_;
  MendOptions options_;
  std::map<Sequence, SetRepair> repairs_;
  std::map<Sequence, LostPlaces> lost_;  // what does not read now
  std::uint64_t gathered_ = 0;
  RepairResult result_;
};

}  // namespace

std::vector<RepairResult> repair_job(const std::string& name, const RepairRequest& request,
                                     const RunContext& context) {
  EachDrive drives(name, context);
  if (request.add_parity && drives.job.parity_percent == 0)
    throw Error(
        ErrorKind::usage, "the job '" + printable(name) + "' has no parity: [protect] parity is off",
        "say how much first: kestrum job edit " + shell_word(printable(name)) + " --protect-parity 5%");
  std::vector<RepairResult> results;
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
      results.push_back(Repair(session, request, others, drives.history).run());
    });
  }
  return results;
}

}  // namespace kestrum
