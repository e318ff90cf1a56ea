// repair.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "cli/verify_words.hpp"
#include "engine/repair.hpp"
#include "rules/keep_rules.hpp"
#include "tell/repair_document.hpp"

namespace kestrum {
namespace {

std::string file_text(const MendedFile& file, bool dry) {
  const FileMending& mending = file.mending;
  if (!file.trouble.empty()) return "it does not read, and " + file.trouble;
  if (!file.has_parity) return "it does not read as it was sealed, and it has no parity";
  const std::string bad = count_text(mending.lost, "bad place", "bad places") + " of 4 KiB, ";
  const std::string brings = dry ? "its parity would bring back " : "its parity brought back ";
  if (mending.whole && mending.lost == 0)
    return std::string(dry ? "it would get" : "it has") + " its length again";
  if (mending.whole) return bad + (dry ? "to be mended from its parity" : "mended from its parity");
  if (mending.mended == 0) return bad + "more than its parity can mend";
  return bad + brings + grouped(mending.mended) + " of them";
}

void print_pieces(const SetRepair& set, bool dry) {
  if (set.pieces_lost == 0) return;
  std::vector<std::string> from;
  if (set.from_elsewhere > 0) from.push_back(grouped(set.from_elsewhere) + " from another destination");
  if (set.from_sources > 0) from.push_back(grouped(set.from_sources) + " from today's files");
  const std::uint64_t left = set.pieces_lost - set.from_elsewhere - set.from_sources;
  if (left > 0) from.push_back(grouped(left) + " nowhere to be found");
  out("  {} of its content lost: {}{}\n", count_text(set.pieces_lost, "piece"),
      dry ? "there would be " : "taken again ", join(from, ", "));
}

void print_set(const SetRepair& set, bool dry) {
  out("Point {}:\n", point_text(set.facts));
  if (set.seals) out("  one of its two seals {} as the other\n", dry ? "would be written" : "was written");
  for (const MendedFile& file : set.files) out("  {}: {}\n", printable(file.name), file_text(file, dry));
  if (set.index) out("  its index {} made anew from its volumes\n", dry ? "would be" : "was");
  print_pieces(set, dry);
  if (set.parity_made > 0)
    out("  parity {} for {}\n", dry ? "would be made" : "made", count_text(set.parity_made, "file"));
}

void print_result(const RepairResult& result, const RepairRequest& request) {
  out("{}\n", printable(result.root));
  for (const SetRepair& set : result.sets) print_set(set, request.dry);
  for (const std::string& finding : result.left.findings) out("{}\n", finding);
  if (result.found.good() && result.sets.empty())
    return out("Everything is as it was sealed: nothing to repair.\n");
  if (request.dry) return out("Nothing was changed. To do it: repair without --dry.\n");
  if (result.left.good()) return out("Everything can be restored as it was.\n");
  print_affected(result.left);
}

int repair(const Arguments& arguments, const Environment& environment) {
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  context.break_lock = arguments.has("break-lock");
  const RepairRequest request{arguments.has("dry"), arguments.has("add-parity")};
  const std::string& name = arguments.words()[0];
  const std::vector<RepairResult> results = repair_job(name, request, context);
  progress.finish();
  if (arguments.has("json")) {
    print_document(repair_document(name, request.dry, results));
  } else {
    for (const RepairResult& result : results) {
      if (&result != results.data()) out("\n");
      print_result(result, request);
    }
  }
  std::vector<DriveVerdict> left;
  for (const RepairResult& result : results) left.push_back({result.root, result.left});
  return exit_code_of(left);
}

}  // namespace

Verb repair_verb() {
  return {{"repair",
           "JOB",
           "mend what the drive has lost of a job's sets",
           "Everything is checked first. What is damaged is mended from its parity; an index from its "
           "volumes; a seal "
           "from its copy. Pieces that are lost for all that are taken from another destination of the job, "
           "or from "
           "today's files where these still hold them. Nothing is written over before what takes its place "
           "has proved to "
           "be right.",
           1,
           1,
           {{"dry", "", "only say what could be mended, and from what"},
            {"add-parity", "", "make parity for sets that were written without it, as the job has it now"},
            break_lock_option,
            json_option,
            {"quiet", "", "no progress"}},
           {"kestrum repair wardens --dry", "kestrum repair wardens", "kestrum repair wardens --add-parity"}},
          repair};
}

}  // namespace kestrum
