// verify.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {
namespace {

void print_result(const VerifyResult& result) {
  constexpr std::size_t most = 20;
  for (const PointVerdict& verdict : result.points) {
    std::string name = verdict.facts ? point_text(*verdict.facts) : std::to_string(verdict.sequence);
    fmt::print("Point {}: {}\n", name, verdict.good() ? "good" : "DAMAGED");
    for (const std::string& finding : verdict.findings) fmt::print("  {}\n", finding);
    if (verdict.affected_count > 0) fmt::print("  {} cannot be restored from this point as {}:\n", count_text(verdict.affected_count, "file"), verdict.affected_count == 1 ? "it was" : "they were");
    for (std::size_t i = 0; i < verdict.affected.size() && i < most; ++i) fmt::print("    {}: {}\n", printable(verdict.affected[i].path), verdict.affected[i].reason);
    if (verdict.affected_count > most) fmt::print("    and {} more; --json lists them\n", grouped(verdict.affected_count - most));
  }
  for (const std::string& finding : result.findings) fmt::print("{}\n", finding);
  if (result.points.empty()) fmt::print("There is no point to check.\n");
  if (result.depth == VerifyDepth::all) fmt::print("Read and checked {}.\n", size_text(result.bytes));
  if (result.good()) return;
  if (result.depth == VerifyDepth::quick) {
    fmt::print("Which files are affected: kestrum verify SUBJECT --depth all\n");
  } else {
    fmt::print("Everything not listed can be restored. The next run saves the listed files anew, as far as the sources still have them.\n");
  }
}

int verify_subject(const Arguments& arguments, const Environment& environment) {
  VerifyRequest request;
  if (std::optional<std::string> text = arguments.value("depth")) {
    std::optional<VerifyDepth> depth = parse_depth(*text);
    std::vector<std::string> words{"quick", "all"};
    std::optional<std::string> near = nearest(*text, words);
    if (!depth) throw Error(ErrorKind::usage, "--depth '" + printable(*text) + "' is not quick or all", near ? "did you mean '" + *near + "'?" : "write one of them");
    request.depth = *depth;
  }
  Subject subject = open_subject(arguments, environment, arguments.words()[0]);
  if (arguments.has("at") || subject.named_set()) request.at = wish_for(subject, arguments.value("at"), environment.clock().now());
  std::unique_ptr<Ledger> ledger;
  try {
    ledger = std::make_unique<Ledger>(environment.home().ledger_path());
  } catch (const Error& error) {
    fmt::print(stderr, "note: what is found is not remembered: {}\n", error.what());
  }
  Progress progress(environment, arguments.has("quiet"));
  VerifyResult result = verify(subject, request, environment.clock(), ledger.get(), progress);
  progress.finish();
  if (arguments.has("json")) {
    fmt::print("{}", verify_document(result));
  } else {
    print_result(result);
  }
  return result.good() ? exit_done : exit_code_of(ErrorKind::damage);
}

}  // namespace

Verb verify_verb() {
  return {{"verify", "SUBJECT", "read archive sets back and check them",
           std::string("quick: seals, sizes, and the marks of every frame; all: every byte, and what any damage means for which file.\n") + subject_words + "\n" + when_words, 1, 1,
           with_subject_options({{"depth", "DEPTH", "quick or all (usual: all)"}, {"at", "WHEN", "only this point and what it needs"}, {"quiet", "", "no progress"}}),
           {"kestrum verify wardens", "kestrum verify /media/tern-1 --job wardens --depth quick"}},
          verify_subject};
}

}  // namespace kestrum
