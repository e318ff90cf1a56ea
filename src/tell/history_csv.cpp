// The history as comma-separated values.
#include <map>

#include "tell/csv_field.hpp"
#include "tell/documents.hpp"
#include "tell/due_words.hpp"

namespace kestrum {
static constexpr std::size_t columns = 20;

std::string history_csv(const std::vector<RunEntry>& runs, const std::vector<DueMade>& due) {
  std::string text =
      csv_line({"job",     "due",       "moments", "became",       "run",         "started", "ended",
                "result",  "exit code", "kind",    "point",        "destination", "files",   "new",
                "changed", "gone",      "bytes",   "stored bytes", "problems",    "message"},
               columns);
  std::map<std::int64_t, Instant> due_of;
  for (const DueMade& made : due) {
    if (made.is_of_run()) {
      due_of[made.run->id] = made.line.when;
      continue;
    }
    std::vector<std::string> cells{made.line.job, csv_moment(made.line.when),
                                   std::to_string(made.line.moments), due_text(made.line, made.run),
                                   made.run ? std::to_string(made.run->number) : ""};
    text += csv_line(std::move(cells), columns);
  }
  for (const RunEntry& run : runs) {
    std::optional<Instant> of;
    if (auto found = due_of.find(run.id); found != due_of.end()) of = found->second;
    const SetTotals& totals = run.totals;
    auto number = [](auto value) { return std::to_string(value); };
    text += csv_line({run.job,
                      csv_moment(of),
                      of ? "1" : "",
                      std::string(result_text(run.result)),
                      number(run.number),
                      csv_moment(run.started),
                      csv_moment(run.ended),
                      std::string(result_text(run.result)),
                      number(run.exit_code),
                      std::string(run.kind ? kind_name(*run.kind) : ""),
                      run.sequence ? number(*run.sequence) : "",
                      run.destination,
                      number(totals.files),
                      number(totals.new_files),
                      number(totals.changed_files),
                      number(totals.gone_files),
                      number(totals.bytes),
                      number(totals.stored_bytes),
                      number(run.problems),
                      run.message},
                     columns);
  }
  return text;
}

}  // namespace kestrum
