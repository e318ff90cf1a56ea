#include "engine/preview.hpp"

#include "base/text.hpp"
#include "engine/chain_state.hpp"
#include "engine/comparison.hpp"
#include "engine/disk_sharing.hpp"
#include "engine/run_facts.hpp"
#include "engine/session.hpp"
#include "job/command_lines.hpp"
#include "job/job_selection.hpp"
#include "plan/keep_plan.hpp"
#include "source/walk_ahead.hpp"

namespace kestrum {
namespace {

Verdict verdict_of(const Match& match) {
  if (match.change == Change::held) return Verdict::held;
  if (match.change == Change::added) return Verdict::added;
  return match.only_attributes ? Verdict::attributes : Verdict::changed;
}

class Preview {
 public:
  Preview(Job job, const RunContext& context, const OnPreviewItem& on_item)
      : job_(std::move(job)),
        context_(context),
        on_item_(on_item),
        history_(History::open(context.home, [this](const std::string& text) { note(text); })) {}

  PreviewResult run(std::optional<Kind> wanted) {
    std::optional<JobState> state = context_.home.load_state(job_.name);
    DestinationChoice choice = choose_destinations(job_, state, context_.machine, context_.open_store);
    if (choice.trouble) throw *choice.trouble;
    for (std::size_t i = 1; choice.each && i < choice.use.size(); ++i)
      note("a set goes to " + printable(choice.use[i]) + " too");
    session_.emplace(job_, choice.use.front(), state, context_, job_keys(job_, context_.ask));
    result_.destination = session_->root();
    result_.drive = session_->destination().facts;
    Selection selection = select(job_.what, context_.people, context_.clock.now(),
                                 [this](const std::string& text) { note(text); });
    exclude_destinations(job_, selection);
    look_over();
    ChainReader chain(session_->store(), session_->sets(), session_->keys());
    KindDecision decision = decide(chain, wanted);
    result_.sequence = highest_ + 1;
    auto begun = std::chrono::steady_clock::now();
    ChainChunks known(readers_of(chain, needs_.all));
    PreviewTally tally(selection);
    walk(selection, chain, decision, known, tally);
    auto walked = std::chrono::steady_clock::now() - begun;
    measure(chain, decision, known, walked);
    fill(tally);
    warn(selection, tally);
    for (const std::string& line : command_lines(job_)) note(line);
    if (!job_.before.empty()) note("a preview runs no commands: it shows what is there without them");
    return std::move(result_);
  }

 private:
  void note(const std::string& text) {
    result_.notes.push_back(text);
    context_.observer.note(text);
  }

  void look_over() {
    const std::optional<JobState>& state = session_->state();
    const std::optional<DriveIdentity>& identity = session_->destination().drive;
    const DriveState* drive = state && identity ? state->drive(identity->id) : nullptr;
    highest_ = drive != nullptr ? drive->highest : 0;
    for (const FoundSet& set : session_->sets()) {
      if (set.refusal) throw *set.refusal;
      for (const std::string& finding : set.findings) note("damage at the destination: " + finding);
      highest_ = std::max(highest_, set.folder.sequence);
    }
    if (std::string gone = session_->older_state(); !gone.empty()) note(gone);
  }

  KindDecision decide(ChainReader& chain, std::optional<Kind> wanted) {
    ProtectionChange protection = protection_change(session_->sets(), job_);
    std::vector<ChainSet> surveyed = protection == ProtectionChange::none ? survey_chain(chain, history_, {})
                                                                          : list_chain(session_->sets());
    for (const ChainSet& set : surveyed) {
      result_.held_bytes += set.facts.totals.stored_bytes;
      if (set.facts.kind == Kind::full) result_.full_bytes = set.facts.totals.stored_bytes;
    }
    if (job_.kind == Kind::full) result_.fulls = std::max(2u, acting_rules(job_.keep).at_least + 1);
    const ChainRules rules{job_.kind, job_.renew};
    const Instant now = context_.clock.now();
    KindDecision decision = wanted ? decide_kind(rules, surveyed, protection, wanted, now)
                                   : decide_by_time(rules, surveyed, protection, times_of(job_), now);
    needs_ = new_needs(decision, surveyed);
    result_.next = decision;
    return decision;
  }

  void tell(const PreviewItem& item) {
    if (on_item_) on_item_(item);
  }

  void walk(const Selection& selection, ChainReader& chain, const KindDecision& decision, ChainChunks& known,
            PreviewTally& tally) {
    FilesystemTable filesystems;
    std::optional<PointReader> base;
    std::optional<Comparison> comparison;
    if (decision.base) {
      base.emplace(chain, *decision.base);
      filesystems = FilesystemTable(decode_run_record(base->fetch(base->set().root().record)).filesystems);
      comparison.emplace(*base, known, filesystems);
      comparison->on_gone([this](const Entry& entry) {
        tell({Verdict::gone, entry.path, entry.type == EntryType::folder, entry.size, {}, {}, false});
      });
    }
    context_.observer.phase_begins(Phase::scanning, {});
    auto problem = [this](const Problem& found) {
      context_.observer.problem(found);
      if (result_.problems.size() < 1000) result_.problems.push_back(found);
    };
    auto left_out = [&](const LeftOut& left) {
      PreviewItem item{Verdict::left_out,
                       left.path,
                       left.folder,
                       left.size,
                       {},
                       choice_text(selection, left.choice),
                       left.choice.reason == Reason::rule};
      tally.leave_out(left, item);
      tell(item);
    };
    WalkAhead walker(
        selection, filesystems, problem, [this](const std::string& text) { note(text); }, left_out);
    while (const Walked* found = walker.next()) {
      context_.control.checkpoint();
      if (!found->unlooked.empty()) {
        problem(found->problem());
        if (comparison) comparison->skip(found->path);
        continue;
      }
      take(selection, *found, comparison ? comparison->match(*found) : Match{}, tally);
    }
    if (!comparison) return;
    comparison->finish();
    result_.gone_files = comparison->gone_files();
  }

  void take(const Selection& selection, const Walked& found, const Match& match, PreviewTally& tally) {
    bool content = S_ISREG(found.status.st_mode) || found.device;
    PreviewItem item;
    item.verdict = verdict_of(match);
    item.path = found.path;
    item.folder = S_ISDIR(found.status.st_mode);
    item.size = content ? static_cast<std::uint64_t>(found.status.st_size) : 0;
    item.category = selection.categories.at(found.choice.category);
    item.why = match.why;
    tally.take(found, item);
    if (!item.folder && !found.above_source) tell(item);
    if (!content) return;
    context_.observer.advanced(item.size, 1);
    if (match.change != Change::held) sampler_.offer(found.path, item.size);
  }

  void measure(ChainReader& chain, const KindDecision& decision, ChainChunks& known,
               std::chrono::nanoseconds walked) {
    context_.observer.phase_begins(Phase::sampling, {});
    bool builds_on = decision.base.has_value();
    Naming naming(builds_on ? chain.set(*decision.base).naming_key() : SecretKey::random());
    result_.estimate = sampler_.estimate(job_.level, naming, builds_on ? &known : nullptr, context_.observer,
                                         context_.control);
    result_.parity_bytes = result_.estimate.stored_bytes / 100 * job_.parity_percent;
    for (std::uint64_t* bytes :
         {&result_.estimate.stored_bytes, &result_.estimate.least, &result_.estimate.most})
      *bytes += *bytes / 100 * job_.parity_percent;
    if (decision.kind == Kind::full) result_.full_bytes = result_.estimate.stored_bytes;
    // Bytes a second, from the last runs that read enough to tell, or from the sample on all workers.
    double rate = 0;
    for (const RunEntry& run : history_.runs(job_.name, 20)) {
      double seconds =
          run.ended ? std::chrono::duration<double>(between(run.started, *run.ended)).count() : 0;
      if (run.totals.read_bytes < (32u << 20) || seconds <= 0) continue;
      rate = static_cast<double>(run.totals.read_bytes) / seconds;
      result_.duration_from_history = true;
      break;
    }
    if (!result_.duration_from_history && result_.estimate.spent.count() > 0) {
      // As docs/evidence/bench.txt has it: reading back and unpacking costs as much again, authenticating,
      // and unpacking a twentieth, a quarter of that; parity a fifth.
      const double passes = (job_.after_run == AfterRun::read_back_all ? 2
                             : job_.after_run == AfterRun::read_back   ? 1.25
                                                                       : 1) +
                            (job_.parity_percent > 0 ? 0.2 : 0);
      double seconds = std::chrono::duration<double>(result_.estimate.spent).count() / context_.workers;
      rate = static_cast<double>(result_.estimate.sampled_bytes) / seconds / passes;
    }
    double copying = rate > 0 ? static_cast<double>(result_.estimate.content_bytes) / rate : 0;
    result_.duration = walked + std::chrono::nanoseconds(static_cast<std::int64_t>(copying * 1e9));
  }

  void fill(const PreviewTally& tally) {
    result_.all = tally.all();
    result_.folders = tally.folders();
    result_.others = tally.others();
    result_.sources = tally.by_source();
    result_.categories = tally.by_category();
    result_.top_folders = tally.by_top_folder();
    result_.largest = tally.largest();
    result_.left_out = tally.left_out();
    StoreSpace space = session_->store().space();
    result_.free_bytes = space.free;
    result_.total_bytes = space.total;
  }

  void warn(const Selection& selection, const PreviewTally& tally) {
    for (const std::string& pattern : tally.idle_patterns())
      note("the pattern '" + printable(pattern) + "' of [what] skip decided about nothing");
    for (const std::string& text : selection.skip.contradictions()) note(text);
    if (result_.all.all().files == 0) note("there is no file to save");
    std::string shared = shared_disk(selection, session_->root(), session_->destination().facts);
    if (!shared.empty() && !job_.same_disk) note(shared);
    if (job_.encryption == Encryption::none)
      note("the sets are not encrypted: whoever has the drive can read them");
  }

  Job job_;
  const RunContext& context_;
  const OnPreviewItem& on_item_;
  PreviewResult result_;
  History history_;
  std::optional<LookSession> session_;
  NewNeeds needs_;
  Sequence highest_ = 0;
  SizeSampler sampler_;
};

}  // namespace

std::optional<ErrorKind> PreviewResult::would_fail() const {
  if (drive.read_only) return ErrorKind::no_destination;
  if (finds_nothing()) return ErrorKind::failed;
  // What the job holds there already may make room.
  if (!set_fits() && held_bytes == 0) return ErrorKind::full;
  return std::nullopt;
}

PreviewResult preview_job(const std::string& name, std::optional<Kind> kind, const RunContext& context,
                          const OnPreviewItem& on_item) {
  return Preview(context.home.load_job(name), context, on_item).run(kind);
}

Explanation preview_why(const std::string& name, const std::string& path, const RunContext& context) {
  Job job = context.home.load_job(name);
  Selection selection = select(job.what, context.people, context.clock.now(), [](const std::string&) {});
  exclude_destinations(job, selection);
  return explain_choice(selection, path);
}

}  // namespace kestrum
