// repair.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "cli/verify_words.hpp"
#include "tell/repair_document.hpp"

namespace kestrum {
namespace {

void print_result(const RepairResult& result, const RepairRequest& request, const std::string& job) {
  out("{}\n", printable(result.root));
  for (const std::string& file : result.identities)
    out("{} was lost or did not read: it was made anew from the sets and what this machine remembers\n",
        printable(file));
  for (const Sequence set : result.sealed_anew)
    out("Set {}: neither of its seals reads; they {} made anew from the rest of it\n", set,
        request.dry ? "would be" : "were");
  if (!request.dry && !result.sealed_anew.empty())
    out("What was said by hand of such a point (keep, guard) is not known any more: say it again where it "
        "matters.\n");
  for (const std::string& line : result.not_sealed) out("Its seals cannot be made anew: {}\n", line);
  for (const SetRepair& set : result.sets) print_mending(set, request.dry);
  for (const std::string& finding : result.left.findings) out("{}\n", finding);
  if (result.found.good() && result.sets.empty() && result.sealed_anew.empty() && result.identities.empty())
    return out("Everything is as it was sealed: nothing to repair.\n");
  if (request.dry) return out("Nothing was changed. To do it: repair without --dry.\n");
  if (result.left.good()) return out("Everything can be restored as it was.\n");
  print_damage(result.left, job);
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
      print_result(result, request, name);
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
