// preview.
#include <fmt/format.h>

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/skip_picker.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"
#include "tell/gnuplot.hpp"
#include "tell/preview_files.hpp"

namespace kestrum {
namespace {

using enum Table::Align;

std::string counted(const FileCount& count) {
  return count.files == 0 ? "" : grouped(count.files);
}

// Where, how much, and how much of it is to be read.
void print_counts(const std::string& head, const std::vector<NamedCounts>& all, std::size_t most) {
  Table table({{head, left},
               {"FILES", right},
               {"SIZE", right},
               {"NEW", right},
               {"CHANGED", right},
               {"TO READ", right}});
  bool everything = std::all_of(all.begin(), all.end(), [](const NamedCounts& one) {
    return one.counts.read_bytes() == one.counts.all().bytes;
  });
  bool all_new = std::all_of(all.begin(), all.end(), [](const NamedCounts& one) {
    return one.counts.added.files == one.counts.all().files;
  });
  for (std::size_t i = 0; i < std::min(most, all.size()); ++i) {
    const VerdictCounts& counts = all[i].counts;
    FileCount sum = counts.all();
    FileCount changed{counts.changed.files + counts.attributes.files, 0};
    table.row({printable(all[i].name), grouped(sum.files), size_text(sum.bytes),
               all_new ? "" : counted(counts.added), counted(changed),
               everything || counts.read_bytes() == 0 ? "" : size_text(counts.read_bytes())});
  }
  print(table);
  if (all.size() > most) out("  and {} more; all of them with --json\n", all.size() - most);
  out("\n");
}

void print_verdicts(const PreviewResult& preview) {
  Table table({{"", left}, {"FILES", right}, {"SIZE", right}});
  auto row = [&](const char* name, const FileCount& count) {
    if (count.files > 0) table.row({name, grouped(count.files), size_text(count.bytes)});
  };
  row("new", preview.all.added);
  row("changed, or too new to trust", preview.all.changed);
  row("only attributes changed", preview.all.attributes);
  row("already held", preview.all.held);
  row("all together", preview.all.all());
  if (preview.gone_files > 0) table.row({"gone since then", grouped(preview.gone_files), ""});
  print(table);
  out("\n");
}

void print_largest(const PreviewResult& preview) {
  constexpr std::size_t shown = 5;
  Table table({{"LARGEST FILES", left}, {"SIZE", right}, {"", left}});
  for (std::size_t i = 0; i < std::min(shown, preview.largest.size()); ++i) {
    const PreviewItem& item = preview.largest[i];
    table.row({printable(item.path.absolute()), size_text(item.size), verdict_word(item.verdict)});
  }
  if (preview.largest.empty()) return;
  print(table);
  out("\n");
}

void print_left_out(const PreviewResult& preview) {
  constexpr std::size_t shown = 8;
  if (preview.left_out.empty()) return;
  Table table({{"LEFT OUT", right}, {"", left}});
  for (std::size_t i = 0; i < std::min(shown, preview.left_out.size()); ++i) {
    std::string_view why = preview.left_out[i].why;
    constexpr std::string_view head = "left out: ";
    if (why.starts_with(head)) why.remove_prefix(head.size());
    table.row({grouped(preview.left_out[i].things), std::string(why)});
  }
  print(table);
  if (preview.left_out.size() > shown)
    out("  and {} more reasons; all of them with --json\n", preview.left_out.size() - shown);
  out("\n");
}

void print_room(const PreviewResult& preview, const std::string& name) {
  const SizeEstimate& estimate = preview.estimate;
  std::string about = estimate.whole
                          ? "everything was looked at"
                          : fmt::format("{} to {}, from a sample of {}", size_text(estimate.least),
                                        size_text(estimate.most), size_text(estimate.sampled_bytes));
  out("To read: {}. The set would take about {} ({}).\n", size_text(estimate.content_bytes),
      size_text(estimate.stored_bytes), about);
  if (preview.parity_bytes > 0)
    out("Of that about {} are parity, which also takes up to a fifth more time.\n",
        size_text(preview.parity_bytes));
  if (!estimate.whole)
    out("It may take less: of files with the same content only one is stored, which a sample does not "
        "see.\n");
  out("Expected time: {}, by the speed of {}.\n",
      preview.duration < std::chrono::seconds(1) ? "less than a second"
                                                 : "about " + duration_text(preview.duration),
      preview.duration_from_history ? "earlier runs" : "the sample; the drive may be slower");
  out("Drive {}: {}; {} of {} free.\n", printable(preview.destination), preview.drive.text(),
      size_text(preview.free_bytes), size_text(preview.total_bytes));
  if (preview.drive.read_only)
    out("It is mounted read-only: a run would fail. Mount it writable, or name another destination.\n");
  if (preview.finds_nothing())
    out("There is nothing to save: a run would fail. See to [what] in the job: kestrum job show {}\n", name);
  if (!preview.set_fits() && preview.held_bytes > 0)
    out("There is no room for it as it is: {} more are needed. The run first carries out the keep rules, "
        "then gives up "
        "the oldest points.\n",
        size_text(estimate.stored_bytes - preview.free_bytes));
  if (!preview.set_fits() && preview.held_bytes == 0)
    out("It does not fit: {} more are needed. Free some space, leave something out, or take another drive.\n",
        size_text(estimate.stored_bytes - preview.free_bytes));
  std::string held =
      preview.held_bytes > 0 ? ", and " + size_text(preview.held_bytes) + " are this job's already" : "";
  std::string why = preview.fulls == 2
                        ? "An old full set goes only once a new one is complete, so the drive must hold two"
                        : "By [keep] at-least, " + std::to_string(preview.fulls - 1) +
                              " full sets must stay until a new one is complete, so the drive must hold " +
                              std::to_string(preview.fulls);
  out("{}: {}{}. {}\n", why, size_text(preview.needed_bytes()), held,
      preview.fulls_fit()
          ? "They fit, with " + size_text(preview.free_bytes + preview.held_bytes - preview.needed_bytes()) +
                " for the sets between."
          : "They do not fit: " +
                size_text(preview.needed_bytes() - preview.free_bytes - preview.held_bytes) +
                " are missing. Take a larger drive, or save less.");
}

void print_preview(const PreviewResult& preview, const std::string& name) {
  out("Point {} would be {} set: {}.\n\n", preview.sequence,
      preview.next.kind == Kind::incremental ? "an incremental"
                                             : "a " + std::string(kind_name(preview.next.kind)),
      kind_reason_text(preview.next));
  print_counts("SOURCE", preview.sources, 20);
  if (!preview.categories.empty()) print_counts("CATEGORY", preview.categories, 20);
  print_counts("TOP FOLDER", preview.top_folders, 10);
  print_verdicts(preview);
  print_largest(preview);
  print_left_out(preview);
  print_room(preview, name);
  if (!preview.problems.empty())
    out("{} found; nothing was written.\n", count_text(preview.problems.size(), "problem"));
}

int why(const std::string& job, const std::string& path, const Arguments& arguments,
        const RunContext& context) {
  Explanation explanation = preview_why(job, path, context);
  if (arguments.has("json")) {
    print_document(why_document(job, path, explanation));
  } else {
    out("{}\n  {}\n", printable(path), explanation.text);
  }
  return exit_done;
}

// What is taken out by keys goes into the job as patterns.
int choose(const std::string& job, const Arguments& arguments, const Environment& environment,
           const RunContext& context, Progress& progress) {
  if (!environment.in_and_out_are_terminals() || arguments.has("json"))
    throw Error(ErrorKind::usage, "choosing by keys needs a terminal",
                "--list FILE writes every file down, with the pattern that takes it out");
  SkipPicker picker(environment.home().load_job(job));
  preview_job(job, wanted_kind(arguments), context, [&](const PreviewItem& item) { picker.add(item); });
  progress.finish();
  const std::vector<std::string> words = picker.run();
  out_lines("{}\n", shell_command("job edit", words));
  const Verb edit = job_edit_verb();
  return edit.run(Arguments(edit.spec, words), environment);
}

int preview(const Arguments& arguments, const Environment& environment) {
  const std::string& job = arguments.words()[0];
  Progress progress(environment, arguments.has("quiet"));
  StopsItself stops_itself;
  RunContext context = run_context(environment, progress);
  if (std::optional<std::string> path = arguments.value("why")) return why(job, *path, arguments, context);
  std::optional<std::string> figure = arguments.value("figure");
  if (figure) check_figure_name(*figure);
  std::optional<PreviewList> list;
  if (std::optional<std::string> file = arguments.value("list")) list.emplace(*file);
  OnPreviewItem on_item;
  if (list) on_item = [&](const PreviewItem& item) { list->add(item); };
  if (arguments.has("choose")) return choose(job, arguments, environment, context, progress);
  PreviewResult result = preview_job(job, wanted_kind(arguments), context, on_item);
  progress.finish();
  if (list) list->finish();
  if (figure) draw_preview(job, result, *figure);
  if (arguments.has("json")) {
    print_document(preview_document(job, result));
  } else {
    print_preview(result, shell_word(job));
    if (list) out("The list of every file is in {}.\n", printable(*arguments.value("list")));
    if (figure) out("The figure is in {}.\n", printable(*figure));
  }
  if (std::optional<ErrorKind> failure = result.would_fail()) return exit_code_of(*failure);
  return result.problems.empty() && result.all.all().files > 0 ? exit_done : exit_problems;
}

}  // namespace

Verb preview_verb() {
  return {
      {"preview",
       "JOB",
       "show what a run would copy; writes nothing",
       "Only a sample of the files is read, to see how well they compress.",
       1,
       1,
       {kind_option,
        {"why", "PATH", "say which rule takes this file or leaves it out, and stop there"},
        {"list", "FILE",
         "write every file with its verdict into a CSV file, with the [what] skip pattern that takes it out"},
        {"choose", "", "take files and folders out by keys, and write the patterns into the job"},
        {"figure", "FILE", "draw where the bytes are, into a .png or .svg file"},
        {"quiet", "", "no progress"},
        json_option},
       {"kestrum preview wardens", "kestrum preview wardens --kind full",
        "kestrum preview wardens --why /srv/ringing/draft.part", "kestrum preview wardens --choose",
        "kestrum preview wardens --list /tmp/wardens.csv --figure /tmp/wardens.png"}},
      preview};
}

}  // namespace kestrum
