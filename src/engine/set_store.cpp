#include "engine/set_store.hpp"

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/unfinished_folder.hpp"

namespace kestrum {
namespace {

void write_open_mark(Store& store, const SetPlan& plan, const SetIdentity& identity,
                     const SaltedBox& naming) {
  OpenMark mark;
  mark.job = identity.job;
  mark.chain = plan.chain;
  mark.set = identity.set;
  mark.sequence = identity.sequence;
  mark.kind = plan.decision.kind;
  mark.base = plan.decision.base;
  mark.started = plan.started;
  mark.keys = plan.keys;
  mark.naming = naming;
  store.write_whole(identity.folder + "/" + open_name, as_bytes(encode_open_mark(mark)));
  store.reserve(identity.folder + "/" + reserve_name, seal_reserve_bytes);
}

}  // namespace

StoredSet store_set(const SetPlan& plan, Store& store, ChainReader& chain, const RunContext& context,
                    const JobLock& lock, std::vector<Problem>& problems) {
  Observer& observer = context.observer;
  std::int32_t offset = local_offset_seconds(plan.started);
  UnfinishedFolder folder(store, plan.destination.folder,
                          set_folder_name(plan.sequence, plan.started, offset, plan.decision.kind));
  SetIdentity identity{plan.destination.identity->job, random_id(), plan.sequence, folder.path()};
  SaltedBox naming_box = box_naming(plan.naming, plan.master, plan.chain);
  write_open_mark(store, plan, identity, naming_box);

  Naming naming(plan.naming);
  ChainChunks known(readers_of(chain, plan.decision.needs));
  std::uint64_t volume_bytes = plan.job.volume_bytes;
  const DriveFacts& drive = plan.destination.facts;
  if (drive.largest_file && volume_bytes > *drive.largest_file) {
    volume_bytes = *drive.largest_file;
    observer.note("data files of up to " + size_text(volume_bytes) + " instead of " +
                  size_text(plan.job.volume_bytes) +
                  (drive.largest_file_known ? ": that is the most that " + drive.type + " takes"
                                            : ": " + drive.type + " does not tell how large they may be"));
  }
  SetWriterOptions options{plan.job.level, volume_bytes, context.workers, context.home.scratch_folder()};
  SetWriter writer(store, identity, plan.master, naming, known, options);

  std::optional<PointReader> base;
  FilesystemTable filesystems;
  std::optional<Comparison> comparison;
  if (plan.decision.base) {
    try {
      base.emplace(chain, *plan.decision.base);
      filesystems = FilesystemTable(decode_run_record(base->fetch(base->set().root().record)).filesystems);
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::damage) throw;
      throw BaseUnreadable(error.what());
    }
    comparison.emplace(*base, known, filesystems);
  }
  SetRun run(plan.selection, filesystems, comparison ? &*comparison : nullptr, writer, plan.naming, observer,
             problems);
  SetRunResult result = run.run();
  if (!result.anything_read) {
    throw Error(ErrorKind::failed,
                "nothing could be read: " + (problems.empty()
                                                 ? std::string("the sources are empty of anything to save")
                                                 : printable(problems[0].path) + ": " + problems[0].reason),
                "check that the sources are there and may be read by this user");
  }

  observer.phase_begins(Phase::sealing, {});
  RunRecord record{context.program, {}, filesystems.all(), plan.decision.reason, context.clock.simulated()};
  for (const TreePath& source : plan.selection.sources) record.sources.push_back(source.absolute());
  Root root;
  root.catalog = result.catalog;
  root.record = writer.put(FrameKind::record, encode_run_record(record));
  root.job_file = writer.put(FrameKind::record, as_bytes(plan.job.text));
  Bytes problem_lines = encode_problems(problems);
  if (problem_lines.size() > limits::chunk) problem_lines.resize(limits::chunk);
  if (!problem_lines.empty()) root.problems = writer.put(FrameKind::record, problem_lines);
  SetWriter::Finished finished = writer.finish(root);

  StoredSet stored;
  SealCore& core = stored.seal.core;
  core.job = identity.job;
  core.facts.sequence = plan.sequence;
  core.facts.chain = plan.chain;
  core.facts.set = identity.set;
  core.facts.kind = plan.decision.kind;
  core.facts.base = plan.decision.base;
  core.facts.needs = plan.decision.needs;
  core.facts.started = plan.started;
  core.facts.ended = context.clock.now();
  core.facts.offset_seconds = offset;
  core.facts.totals = result.totals;
  core.facts.totals.new_bytes = writer.new_bytes();
  core.facts.totals.stored_bytes = finished.stored_bytes;
  core.facts.problems = problems.size();
  core.machine = plan.destination.identity->machine;
  core.job_name = plan.destination.identity->name;
  core.files = std::move(finished.files);
  core.previous = plan.previous;
  core.naming = naming_box;
  core.root = box_root(finished.root, plan.master, identity.set);
  stored.seal.keys = plan.keys;

  check_stop(observer);
  lock.check();
  try {
    stored.folder = seal_set(store, identity, stored.seal, plan.master);
  } catch (...) {
    if (!is_sealed(store, identity.folder)) throw;
    stored.folder = identity.folder;
    folder.keep();
    observer.note("the set is sealed; its last finishing touches are left to the next run");
  }
  folder.keep();
  return stored;
}

}  // namespace kestrum
