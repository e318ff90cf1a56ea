#include "archive/fold.hpp"

#include <algorithm>
#include <set>

#include "archive/set_check.hpp"
#include "base/error.hpp"

namespace kestrum {
namespace {

// Smaller volumes are copied, so that a chain folded for years does not end as thousands of files; but what
// is a good part of the whole stays where it is.
constexpr std::uint64_t large_volume = 64u << 20;

class FoldPlanner {
 public:
  FoldPlanner(const FoldContext& context, FoldPlan& plan, const ReachableChunks& reachable,
              const FoldRoom& room)
      : context_(context), plan_(plan), reachable_(reachable), room_(room) {}

  void survey() {
    for (Sequence sequence : plan_.sets) all_ += context_.chain.set(sequence).facts().totals.stored_bytes;
    for (Sequence sequence : plan_.sets) {
      SetReader& set = context_.chain.set(sequence);
      std::size_t begin = plan_.files.size();
      std::map<std::uint32_t, std::size_t> of_slot;
      for (const SealedFile& file : set.seal().core.files) {
        plan_.stored_bytes += file.size;
        if (file.slot == 0) continue;
        of_slot[file.slot] = plan_.files.size();
        FoldedFile folded;
        folded.set = sequence;
        folded.slot = file.slot;
        plan_.files.push_back(std::move(folded));
      }
      set.each_record([&](const IndexRecord& record) {
        auto file = of_slot.find(record.slot);
        if (file == of_slot.end()) throw damage("an index names a file that its set does not have");
        FoldedFile::Frame& frame = plan_.files[file->second].frames[record.frame.offset];
        frame.size = record.frame.size;
        frame.content += record.length;
        if (reachable_.contains(record.name)) frame.needed += record.length;
        frame.twice = frame.twice || seen_.find(record.name).has_value();
      });
      // Only now, so that a set is not taken for its own double.
      set.each_record([&](const IndexRecord& record) {
        seen_.put(record.name, 0);
        ++plan_.records;
      });
      for (std::size_t i = begin; i < plan_.files.size(); ++i) choose(set, plan_.files[i]);
    }
    add_up();
  }

  void press() {
    std::vector<FoldedFile*> files;
    for (FoldedFile& file : plan_.files) {
      if (file.needed_share() > 0 && file.needed_share() < FoldPlan::least_when_pressed)
        files.push_back(&file);
    }
    std::stable_sort(files.begin(), files.end(), [](const FoldedFile* a, const FoldedFile* b) {
      return a->needed_share() < b->needed_share();
    });
    for (FoldedFile* file : files) {
      if (plan_.frees_bytes() >= room_.wanted) return;
      file->kept = false;
      file->thorough = true;
      add_up();
    }
  }

  void fit() {
    std::vector<FoldedFile*> files;
    for (FoldedFile& file : plan_.files) {
      if (!file.kept && file.may_be_kept) files.push_back(&file);
    }
    std::stable_sort(files.begin(), files.end(), [](const FoldedFile* a, const FoldedFile* b) {
      return a->needed_share() > b->needed_share();
    });
    for (FoldedFile* file : files) {
      if (plan_.needed_bytes() <= room_.allowed) return;
      file->kept = true;
      add_up();
    }
  }

 private:
  void choose(SetReader& set, FoldedFile& file) {
    bool twice = std::any_of(file.frames.begin(), file.frames.end(),
                             [](const auto& frame) { return frame.second.twice; });
    std::uint64_t size = set.sealed_file(file.slot)->size;
    bool large = size >= std::min(large_volume, room_.volume_bytes / 2) || size >= all_ / 4;
    file.may_be_kept = !twice && file.needed_share() > 0;
    // A volume that cannot be moved to where it belongs is no volume to keep.
    file.may_be_kept = file.may_be_kept && set.store().traits().renames;
    file.kept = file.may_be_kept && large && file.needed_share() >= FoldPlan::least_of_volume;
  }

  void add_up() {
    plan_.kept_bytes = plan_.copied_bytes = 0;
    std::uint32_t slots = 0;
    for (FoldedFile& file : plan_.files) {
      if (file.kept) {
        file.new_slot = ++slots;
        plan_.kept_bytes += context_.chain.set(file.set).sealed_file(file.slot)->size;
      }
      if (!file.kept) plan_.copied_bytes += file.copied_bytes();
    }
  }

  const FoldContext& context_;
  FoldPlan& plan_;
  const ReachableChunks& reachable_;
  const FoldRoom& room_;
  NameTable seen_;
  std::uint64_t all_ = 0;  // stored bytes of the range
};

class FoldWriter {
 public:
  FoldWriter(const FoldContext& context, const FoldPlan& plan, const ReachableChunks& reachable,
             SetWriter& writer)
      : context_(context), plan_(plan), reachable_(reachable), writer_(writer) {}

  void write() {
    for (Sequence sequence : plan_.sets) hold_kept(sequence);
    for (const FoldedFile& file : plan_.files) {
      if (file.kept) continue;
      FrameFileReader& source = context_.chain.set(file.set).file(file.slot);
      for (const auto& [offset, frame] : file.frames) {
        if (frame.needed == 0) continue;
        FramePlace place{offset, frame.size};
        if (frame.copied_whole(file.thorough)) {
          writer_.copy(source.read_packed(place));
        } else {
          pack_anew(source.read(place));
        }
        context_.step(frame.size);
      }
    }
  }

 private:
  // Everything that lies in a kept volume stands in the index, needed or not: it must say what the volumes
  // hold.
  void hold_kept(Sequence sequence) {
    std::map<std::uint32_t, std::uint32_t> new_slots;
    for (const FoldedFile& file : plan_.files) {
      if (file.set == sequence && file.kept) new_slots[file.slot] = file.new_slot;
    }
    if (new_slots.empty()) return;
    std::vector<IndexRecord> records;
    auto flush = [&] {
      if (!records.empty()) writer_.hold(records);
      records.clear();
    };
    context_.chain.set(sequence).each_record([&](const IndexRecord& record) {
      auto slot = new_slots.find(record.slot);
      if (slot == new_slots.end()) return;
      records.push_back(record);
      records.back().slot = slot->second;
      if (records.size() == 4096) flush();
    });
    flush();
  }

  void pack_anew(const FrameContent& frame) {
    ByteView rest = frame.content;
    for (const ListedChunk& chunk : frame.chunks) {
      ByteView content = rest.first(chunk.length);
      rest = rest.subspan(chunk.length);
      if (!reachable_.contains(chunk.name)) continue;
      ChunkRef ref = writer_.put(frame.kind, content);
      if (ref.name != chunk.name) throw damage("content does not have the name it is listed under");
    }
  }

  const FoldContext& context_;
  const FoldPlan& plan_;
  const ReachableChunks& reachable_;
  SetWriter& writer_;
};

class NothingKnown final : public KnownChunks {
 public:
  std::optional<Sequence> find(const ChunkName&) override { return std::nullopt; }
};

}  // namespace

bool FoldedFile::Frame::copied_whole(bool thorough) const {
  const double least = thorough ? FoldPlan::least_when_pressed : FoldPlan::least_of_frame;
  return !twice && static_cast<double>(needed) >= least * static_cast<double>(content);
}

std::uint64_t FoldPlan::frees_bytes() const {
  return stored_bytes - std::min(stored_bytes, kept_bytes + copied_bytes);
}

std::uint64_t FoldedFile::copied_bytes() const {
  std::uint64_t bytes = 0;
  for (const auto& [_, frame] : frames) {
    if (frame.needed == 0) continue;
    // Packed anew, it takes no more than its content and what frames it.
    constexpr std::uint32_t framing = 1024;
    bytes += frame.copied_whole(thorough) ? frame.size : std::min(frame.size, frame.needed) + framing;
  }
  return bytes;
}

double FoldedFile::needed_share() const {
  std::uint64_t needed = 0, content = 0;
  for (const auto& [_, frame] : frames) {
    needed += frame.needed;
    content += frame.content;
  }
  return content == 0 ? 0 : static_cast<double>(needed) / static_cast<double>(content);
}

std::uint64_t FoldPlan::needed_bytes() const {
  // Rows of the index before compression, which they hardly take, their frames, and both seals.
  constexpr std::uint64_t seals = 512u << 10;
  return copied_bytes + records * (IndexRecord::size + 4) + seals;
}

FoldPlan plan_fold(const FoldContext& context, Sequence first, Sequence last, ReachableChunks& reachable,
                   const FoldRoom& room) {
  FoldPlan plan;
  plan.first = first;
  plan.last = last;
  std::optional<Id> chain;
  for (const FoundSet& set : context.chain.sets()) {
    if (!set.sealed()) continue;
    const SetFacts& facts = set.facts();
    if (facts.sequence > last || facts.covers_from() < first) continue;
    if (chain && *chain != facts.chain)
      throw Error(ErrorKind::usage, "sets of two chains cannot be folded into one");
    chain = facts.chain;
    plan.sets.push_back(facts.sequence);
  }
  if (plan.sets.size() < 2 || plan.sets.back() != last)
    throw Error(ErrorKind::usage,
                "there is nothing to fold from " + std::to_string(first) + " to " + std::to_string(last));
  for (const FoundSet& set : context.chain.sets()) {
    if (!set.sealed() || set.facts().chain != *chain || set.folder.sequence < last) continue;
    PointReader point(context.chain, set.folder.sequence);
    bool uses = set.folder.sequence == last ||
                std::any_of(point.sources().begin(), point.sources().end(), [&](Sequence source) {
                  return std::find(plan.sets.begin(), plan.sets.end(), source) != plan.sets.end();
                });
    if (uses) reachable.add(point, [&] { context.step(0); });
  }
  FoldPlanner planner(context, plan, reachable, room);
  planner.survey();
  planner.press();
  planner.fit();
  return plan;
}

namespace {

// What the sets of the range need besides each other, by what stands for it now: the first of it, and what
// that brings along and none of them needs left out.
void take_needs(const SetList& sets, const FoldPlan& plan, SetFacts& facts) {
  const SetNeeds& graph = sets.needs();
  std::set<std::size_t> wanted;
  for (Sequence sequence : plan.sets) {
    const SetFacts& member = sets.sealed(sequence)->facts();
    for (std::size_t place : graph.closure(member).met) {
      if (graph.facts(place).sequence < *facts.folded_from) wanted.insert(place);
    }
    for (const SetNeed& need : member.needs) {
      std::size_t met = graph.meeting(need, facts.chain);
      if (need.sequence >= *facts.folded_from) continue;
      SetNeed now = met == SetNeeds::none ? need : SetNeed{graph.facts(met).sequence, graph.facts(met).set};
      bool there = std::any_of(facts.needs.begin(), facts.needs.end(),
                               [&](const SetNeed& other) { return other.set == now.set; });
      if (!there) facts.needs.push_back(now);
    }
  }
  facts.needs_follow = !facts.needs.empty();
  if (!facts.needs_follow) return;
  for (std::size_t place : graph.closure(facts).met) {
    if (!wanted.contains(place)) facts.without.push_back(graph.facts(place).sequence);
  }
}

}  // namespace

FoldedSet write_fold(const FoldContext& context, const FoldPlan& plan, const ReachableChunks& reachable,
                     Store& store, const std::string& folder, const SecretKey& master,
                     SetWriterOptions options) {
  SetReader& oldest = context.chain.set(plan.sets.front());
  SetReader& newest = context.chain.set(plan.last);
  FoldedSet out;
  out.seal.core = newest.seal().core;
  out.seal.keys = newest.seal().keys;
  SealCore& core = out.seal.core;
  core.files.clear();
  SetFacts& facts = core.facts;
  facts.set = random_id();
  facts.folded_from = oldest.facts().covers_from();
  facts.kind = oldest.facts().kind;
  facts.base = oldest.facts().base;
  facts.needs.clear();
  facts.without.clear();
  facts.needs_follow = false;
  std::uint64_t kept = 0;
  for (const FoldedFile& file : plan.files) {
    if (!file.kept) continue;
    SealedFile sealed = *context.chain.set(file.set).sealed_file(file.slot);
    sealed.slot = file.new_slot;
    sealed.name = volume_file_name(file.new_slot);
    kept += sealed.size;
    for (SealedParity parity : context.chain.set(file.set).seal().parity) {
      if (parity.file.slot != file.slot) continue;
      parity.file.slot = file.new_slot;
      parity.file.name = parity_file_name(file.new_slot);
      kept += parity.file.size;
      out.seal.parity.push_back(std::move(parity));
    }
    core.files.push_back(std::move(sealed));
  }
  take_needs(context.chain.sets(), plan, facts);
  if (facts.needs.empty()) {
    facts.kind = Kind::full;
    facts.base.reset();
  }

  out.identity = {core.job, facts.set, facts.sequence, folder};
  options.volumes_before = static_cast<std::uint32_t>(core.files.size());
  Naming naming(newest.naming_key());
  NothingKnown nothing;
  SetWriter writer(store, out.identity, master, naming, nothing, options);
  FoldWriter(context, plan, reachable, writer).write();
  Root root = newest.root();
  SetWriter::Finished finished = writer.finish(root);
  for (SealedFile& file : finished.files) core.files.push_back(std::move(file));
  std::sort(core.files.begin(), core.files.end(),
            [](const SealedFile& a, const SealedFile& b) { return a.slot < b.slot; });
  for (SealedParity& parity : finished.parity) out.seal.parity.push_back(std::move(parity));
  std::sort(out.seal.parity.begin(), out.seal.parity.end(),
            [](const SealedParity& a, const SealedParity& b) { return a.file.slot < b.file.slot; });
  facts.totals.stored_bytes = kept + finished.stored_bytes;
  core.previous = oldest.seal().core.previous;
  core.root = box_root(finished.root, master, facts.set);
  return out;
}

std::vector<std::string> check_fold(const FoldContext& context, const FoldPlan& plan,
                                    const ReachableChunks& reachable, SetReader& folded) {
  std::vector<std::string> findings = folded.check_sizes();
  CheckOptions options{.drop_cache = true, .own_only = true, .progress = context.step};
  SetFindings found = check_set(folded, options);
  for (std::vector<std::string>* all : {&found.findings, &found.parity}) {
    for (std::string& finding : *all) findings.push_back(std::move(finding));
  }
  if (!findings.empty()) return findings;
  for (Sequence sequence : plan.sets) {
    std::uint64_t missing = 0;
    context.chain.set(sequence).each_record([&](const IndexRecord& record) {
      if (reachable.contains(record.name) && !folded.find(record.name)) ++missing;
    });
    if (missing > 0)
      findings.push_back(std::to_string(missing) + " chunks of set " + std::to_string(sequence) +
                         " are not in the folded one");
  }
  return findings;
}

}  // namespace kestrum
