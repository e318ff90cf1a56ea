#include "engine/preview.hpp"

#include "base/text.hpp"
#include "engine/chain_state.hpp"
#include "engine/comparison.hpp"
#include "engine/destination.hpp"
#include "engine/disk_sharing.hpp"
#include "engine/file_saver.hpp"
#include "source/walk_ahead.hpp"

namespace kestrum {
namespace {

void count(PreviewResult& result, const Walked& found, Change change) {
  EntryType type = type_of(found.status);
  if (type == EntryType::folder) {
    ++result.folders;
    return;
  }
  if (type != EntryType::file && !found.device) {
    ++result.others;
    return;
  }
  auto size = static_cast<std::uint64_t>(found.status.st_size);
  ++result.files;
  result.bytes += size;
  for (PreviewSource& source : result.sources) {
    if (!found.path.is_within(*TreePath::parse(source.path))) continue;
    ++source.files;
    source.bytes += size;
  }
  std::uint64_t& files = change == Change::added     ? result.new_files
                         : change == Change::changed ? result.changed_files
                                                     : result.held_files;
  std::uint64_t& bytes = change == Change::added     ? result.new_bytes
                         : change == Change::changed ? result.changed_bytes
                                                     : result.held_bytes;
  ++files;
  bytes += size;
}

}  // namespace

PreviewResult preview_job(const std::string& name, std::optional<Kind> wanted, const RunContext& context) {
  Job job = context.home.load_job(name);
  PreviewResult result;
  auto note = [&](const std::string& text) {
    result.notes.push_back(text);
    context.observer.note(text);
  };
  std::optional<JobState> state = context.home.load_state(name);
  Destination destination = find_destination(job, state, context.machine, context.open_store);
  result.destination = destination.root;
  Selection selection = select(job.what, context.people, context.clock.now(), note);
  selection.excluded.push_back(destination.folder_identity);
  for (const TreePath& source : selection.sources) result.sources.push_back({source.absolute(), 0, 0});

  KeyRing keys([&] {
    return get_passphrase(job.passphrase, "passphrase of the job '" + printable(name) + "'", context.ask);
  });
  std::vector<FoundSet> sets;
  if (destination.identity)
    sets = read_sets(*destination.store, destination.folder, destination.identity->job);
  Sequence highest = state ? state->highest : 0;
  for (const FoundSet& set : sets) {
    if (set.refusal) throw *set.refusal;
    for (const std::string& finding : set.findings) note("damage at the destination: " + finding);
    highest = std::max(highest, set.folder.sequence);
  }
  ChainReader chain(*destination.store, std::move(sets), keys);
  std::unique_ptr<Ledger> ledger = Ledger::open_or_renew(context.home.ledger_path(), note);
  std::string protection = protection_change(chain, job);
  std::vector<ChainSet> surveyed =
      protection.empty() ? survey_chain(chain, ledger.get(), {}) : list_chain(chain);
  KindDecision decision = decide_kind({job.kind, job.renew_every_sets}, surveyed, protection, wanted);
  result.kind = kind_name(decision.kind);
  result.reason = decision.reason;
  result.sequence = highest + 1;

  ChainChunks known(readers_of(chain, decision.needs));
  FilesystemTable filesystems;
  std::optional<PointReader> base;
  std::optional<Comparison> comparison;
  if (decision.base) {
    base.emplace(chain, *decision.base);
    filesystems = FilesystemTable(decode_run_record(base->fetch(base->set().root().record)).filesystems);
    comparison.emplace(*base, known, filesystems);
  }
  context.observer.phase_begins(Phase::scanning, {});
  auto keep_problem = [&](const Problem& problem) {
    context.observer.problem(problem);
    if (result.problems.size() < 1000) result.problems.push_back(problem);
  };
  WalkAhead walker(selection, filesystems, keep_problem, note);
  while (const Walked* found = walker.next()) {
    check_stop(context.observer);
    Match match;
    if (comparison) match = comparison->match(*found);
    count(result, *found, match.change);
    if (S_ISREG(found->status.st_mode) || found->device)
      context.observer.advanced(static_cast<std::uint64_t>(found->status.st_size), 1);
  }
  if (comparison) {
    comparison->finish();
    result.gone_files = comparison->gone_files();
  }
  if (std::string shared = shared_disk(selection, destination.root, destination.facts); !shared.empty()) note(shared);
  if (job.encryption == Encryption::none)
    note("the sets are not encrypted: whoever has the drive can read them");
  StoreSpace space = destination.store->space();
  result.free_bytes = space.free;
  result.total_bytes = space.total;
  return result;
}

}  // namespace kestrum
