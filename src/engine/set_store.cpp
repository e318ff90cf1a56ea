#include "engine/set_store.hpp"

#include "base/text.hpp"
#include "engine/run_facts.hpp"
#include "engine/upkeep.hpp"
#include "plan/plan_words.hpp"

namespace kestrum {

SetStore::SetStore(const SetPlan& plan, const Selection& selection, WriteSession& session, Store& store,
                   ChainReader& chain, std::optional<WatchedRun> watched, const PhaseTotals& expected,
                   std::vector<Problem>& problems)
    : plan_(plan),
      selection_(selection),
      session_(session),
      context_(session.context()),
      store_(store),
      chain_(chain),
      watched_(std::move(watched)),
      problems_(problems),
      expected_(expected),
      offset_(local_offset_seconds(plan.started)) {}

SetStore::~SetStore() = default;

void SetStore::begin() {
  const std::string name = set_folder_name(plan_.sequence, plan_.started, offset_, plan_.decision.kind);
  if (plan_.goes_on) {
    left_ = plan_.goes_on->leftover;
    session_.list().forget(left_->folder.path);  // it gets the name of this run
    folder_ = std::make_unique<UnfinishedFolder>(store_, session_.folder(), name, left_->folder);
    folder_->keep();
    left_->folder.path = folder_->path();
    identity_ = {left_->mark.job, plan_.set, plan_.sequence, folder_->path()};
    naming_box_ = left_->mark.naming;
    return;
  }
  folder_ = std::make_unique<UnfinishedFolder>(store_, session_.folder(), name);
  identity_ = {session_.identity().job, plan_.set, plan_.sequence, folder_->path()};
  naming_box_ = box_naming(plan_.naming, plan_.master, plan_.chain);
  OpenMark mark;
  mark.job = identity_.job;
  mark.chain = plan_.chain;
  mark.set = identity_.set;
  mark.sequence = identity_.sequence;
  mark.kind = plan_.decision.kind;
  mark.base = plan_.decision.base;
  mark.started = plan_.started;
  mark.keys = plan_.keys;
  mark.naming = naming_box_;
  store_.put(identity_.folder + "/" + open_name, as_bytes(encode_open_mark(mark)));
  if (store_.traits().reserves) store_.reserve(identity_.folder + "/" + reserve_name, seal_reserve_bytes);
}

SetWriterOptions SetStore::writer_options() {
  const Job& job = session_.own_job();
  const DriveFacts& drive = session_.destination().facts;
  SetWriterOptions options = sizes_on(job, session_.store().space().total);
  options.workers = context_.workers;
  options.scratch_folder = context_.home.scratch_folder();
  if (drive.largest_file && options.volume_bytes > *drive.largest_file) {
    options.volume_bytes = *drive.largest_file;
    context_.observer.note("data files of up to " + size_text(options.volume_bytes) + " instead of " +
                           size_text(job.volume_bytes) +
                           (drive.largest_file_known
                                ? ": that is the most that " + drive.type + " takes"
                                : ": " + drive.type + " does not tell how large they may be"));
  }
  return options;
}

void SetStore::open_base(ChainChunks& known) {
  if (!plan_.decision.base) return;
  try {
    base_.emplace(chain_, *plan_.decision.base);
    // A run that is gone on with has taken the base's file systems over, and may have found more.
    if (filesystems_.all().empty())
      filesystems_ = FilesystemTable(decode_run_record(base_->fetch(base_->set().root().record)).filesystems);
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
    throw BaseUnreadable(error);
  }
  comparison_.emplace(*base_, known, filesystems_);
}

void SetStore::save() {
  Naming naming(plan_.naming);
  ChainChunks known(readers_of(chain_, plan_.needs.all));
  SetWriter writer(store_, identity_, plan_.master, naming, known, writer_options());
  const TakenLeftover taken = take_over(writer);
  open_base(known);
  std::optional<EarlierPoint> earlier;
  std::function<bool(const Entry&)> there;
  if (comparison_) there = [this](const Entry& entry) { return comparison_->content_is_there(entry); };
  if (plan_.earlier) earlier.emplace(chain_, *plan_.earlier, writer, there);
  SetRun run(selection_, filesystems_, comparison_ ? &*comparison_ : nullptr, earlier ? &*earlier : nullptr,
             writer, plan_.naming, context_, problems_);
  go_by_what_watching_told(run, known);
  RunJournal journal(writer, identity_.set, taken.journals, expected_, context_.journal_step,
                     [this] { return encode_run_record(record()); });
  journal.on_written([this](const JournalProgress& progress) { remember(progress); });
  std::optional<BrokenRun> before;
  if (left_)
    before.emplace(FinishedFiles(store_, *left_, plan_.master, taken), plan_.sequence, known, filesystems_);
  run.go_on(journal, before ? &*before : nullptr);
  std::optional<GuardTally> tally;
  if (plan_.guard) tally.emplace(*plan_.guard, chain_, base_ ? &*base_ : nullptr);
  if (tally) run.watch_over(*tally);
  SetRunResult result = walk(run, journal);
  again_ = places_of(problems_);
  tell_untold(result);
  if (!result.anything_read) refuse_nothing_read();
  context_.observer.phase_begins(Phase::sealing, {});
  weigh(tally ? &*tally : nullptr, writer);
  write_records(writer, result);
  take_totals(result, writer);
}

void SetStore::weigh(GuardTally* tally, const SetWriter& writer) {
  if (tally == nullptr) return;
  GuardCounts counts = tally->finish();
  const SetWriter::Shrunk shrunk = writer.shrunk();
  counts.new_bytes = shrunk.content_bytes;
  counts.stored_bytes = shrunk.stored_bytes;
  evidence_ = weigh_run(counts, plan_.guard->before);
  if (!evidence_.empty()) examples_ = tally->examples();
}

void SetStore::take_totals(const SetRunResult& result, const SetWriter& writer) {
  totals_ = result.totals;
  carries_ = result.carries;
  saved_anew_ = result.saved_anew;
  totals_.new_bytes = writer.new_bytes();
  totals_.stored_bytes = finished_.stored_bytes;
}

// What is taken over unseen must be there.
void SetStore::go_by_what_watching_told(SetRun& run, const ChainChunks& known) {
  const bool all_there = !known.any_losses() && plan_.needs.without.empty();
  if (watched_ && comparison_ && all_there) run.go_by(*watched_, base_->set().facts().totals);
  if (watched_ && !all_there)
    context_.observer.note("everything is looked at: earlier sets are damaged or missing");
}

void SetStore::refuse_nothing_read() {
  let_go();
  throw Error(ErrorKind::failed,
              "nothing could be read: " + (problems_.empty()
                                               ? std::string("the sources are empty of anything to save")
                                               : printable(problems_[0].path) + ": " + problems_[0].reason),
              "check that the sources are there and may be read by this user");
}

TakenLeftover SetStore::take_over(SetWriter& writer) {
  if (!left_) return {};
  context_.observer.note("going on with what was left of point " + std::to_string(plan_.sequence) +
                         ", begun on " + local_text(left_->mark.started) + ": " + size_text(left_->bytes));
  TakenLeftover taken = take_leftover(
      store_, *left_, plan_.master, [&](const std::vector<IndexRecord>& chunks) { writer.hold(chunks); },
      [&](std::uint64_t) { context_.control.checkpoint(); });
  if (taken.dropped_bytes > 0)
    context_.observer.note("the last " + size_text(taken.dropped_bytes) +
                           " of it are not whole, and are written anew");
  writer.take_over(taken.volumes, taken.content_bytes, [&](std::uint64_t) { context_.control.checkpoint(); });
  if (!taken.record.empty()) filesystems_ = FilesystemTable(decode_run_record(taken.record).filesystems);
  return taken;
}

SetRunResult SetStore::walk(SetRun& run, RunJournal& journal) {
  try {
    return run.run();
  } catch (const BaseUnreadable&) {
    let_go();
    throw;
  } catch (const WatchDoubt&) {
    let_go();
    throw;
  } catch (const Stopped&) {
    if (!context_.control.discards()) journal.write();
    tell_left();
    throw;
  } catch (...) {
    tell_left();
    throw;
  }
}

void SetStore::let_go() {
  if (!folder_) return;
  folder_->let_go();
  session_.drive().left = {};
  session_.save_memory();
}

void SetStore::tell_left() {
  if (!folder_->kept() || context_.control.discards()) return;
  session_.save_memory();
  context_.observer.note("what is finished of point " + std::to_string(plan_.sequence) +
                         " stays: the next run goes on with it");
}

// From now on there is something to go on with; and for whoever asks how far it is while the drive is away.
void SetStore::remember(const JournalProgress& progress) {
  folder_->keep();
  session_.drive().left = {plan_.sequence, progress.bytes, progress.expected_bytes};
  constexpr std::chrono::seconds often(10);
  if (std::chrono::steady_clock::now() - remembered_ < often) return;
  remembered_ = std::chrono::steady_clock::now();
  session_.save_memory();
}

void SetStore::tell_untold(const SetRunResult& result) {
  for (const std::string& path : result.untold_paths)
    add_problem(problems_, context_.observer,
                {path, "notice the change of", "only looking at everything has found it; it is saved now"});
  if (const std::uint64_t more = result.untold - result.untold_paths.size(); more > 0)
    add_problem(problems_, context_.observer,
                {"", "notice changes",
                 "watching has missed " + grouped(more) +
                     " more, which are saved now; until it can be relied "
                     "on, let the job run at shorter intervals"});
}

RunRecord SetStore::record() const {
  RunRecord record{
      context_.program, {}, filesystems_.all(), kind_reason_text(plan_.decision), context_.clock.simulated()};
  for (const TreePath& source : selection_.sources) record.sources.push_back(source.absolute());
  record.evidence = evidence_;
  record.examples = examples_;
  return record;
}

// What the set tells of its own run, and the end of its files.
void SetStore::write_records(SetWriter& writer, const SetRunResult& result) {
  root_ = {};
  root_.catalog = result.catalog;
  root_.record = writer.put(FrameKind::record, encode_run_record(record()));
  root_.job_file = writer.put(FrameKind::record, as_bytes(session_.own_job().text));
  Bytes problem_lines = encode_problems(problems_);
  if (problem_lines.size() > limits::chunk) problem_lines.resize(limits::chunk);
  if (!problem_lines.empty()) root_.problems = writer.put(FrameKind::record, problem_lines);
  finished_ = writer.finish(root_);
}

SealCore SetStore::core() const {
  SealCore core;
  core.job = identity_.job;
  SetFacts& facts = core.facts;
  facts.sequence = plan_.sequence;
  facts.chain = plan_.chain;
  facts.set = identity_.set;
  facts.kind = plan_.decision.kind;
  facts.base = plan_.decision.base;
  facts.needs = plan_.needs.direct;
  facts.needs_follow = !facts.needs.empty();
  facts.without = plan_.needs.without;
  facts.started = plan_.started;
  facts.ended = context_.clock.now();
  facts.offset_seconds = offset_;
  facts.totals = totals_;
  facts.problems = problems_.size();
  facts.carries = carries_;
  if (!evidence_.empty()) facts.guard = GuardMark::suspect;
  core.machine = session_.identity().machine;
  core.job_name = session_.identity().name;
  core.files = finished_.files;
  core.previous = plan_.previous;
  core.naming = naming_box_;
  core.root = box_root(finished_.root, plan_.master, identity_.set);
  return core;
}

StoredSet SetStore::seal() {
  StoredSet stored;
  stored.saved_anew = saved_anew_;
  stored.again = again_;
  stored.evidence = evidence_;
  stored.seal.core = core();
  stored.seal.keys = plan_.keys;
  stored.seal.parity = finished_.parity;
  context_.control.checkpoint();
  session_.guard().check();
  try {
    stored.folder = seal_set(store_, identity_, stored.seal, plan_.master);
  } catch (...) {
    std::optional<std::string> sealed = sealed_folder(store_, identity_.folder);
    if (!sealed) throw;
    stored.folder = *sealed;
    stored.sure = false;
    folder_->keep();
    context_.observer.note("the set is sealed; its last finishing touches are left to the next run");
  }
  folder_->keep();
  return stored;
}

}  // namespace kestrum
