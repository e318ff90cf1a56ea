// report.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "tell/output_file.hpp"
#include "tell/report_page.hpp"

namespace kestrum {
namespace {

int report(const Arguments& arguments, const Environment& environment) {
  const std::vector<std::string>& names = arguments.words();
  const std::optional<std::string> to = arguments.value("to"), figures = arguments.value("figures");
  if (!to && !figures && !arguments.has("json") && environment.out_is_terminal())
    throw Error(ErrorKind::usage, "'report' needs to be told where the page goes",
                "kestrum report --to report.html; into a pipe it is written as it is");
  Progress progress(environment, false);
  const RunContext context = run_context(environment, progress);
  const bool by_path = names_a_place(names);
  const Report made = by_path ? report_place(DestinationAddress::parse(names[0]), context.open_store,
                                             environment.clock().now())
                              : report_jobs(names, context);
  std::vector<std::string> files;
  if (figures) files = write_figures(made, *figures);
  if (to) {
    OutputFile file(*to);
    file.write(report_page(made));
    file.keep();
    files.push_back(*to);
  }
  if (arguments.has("json")) {
    print_document(report_document(made));
  } else if (!to && !figures) {
    print_document(report_page(made));
  } else {
    out("{}\n", report_sentence(made));
    for (const std::string& file : files) out_lines("  {}\n", printable(file));
  }
  return exit_done;
}

}  // namespace

Verb report_verb() {
  return {{"report",
           "[JOB...|DIR]",
           "one page on how jobs stand, to send, print or look at",
           "The page is one HTML file that needs nothing else. Of one job, of some, or without a name of all "
           "jobs of "
           "this machine; with a folder of every machine and job on that destination, for which no key is "
           "needed. "
           "Worst first.",
           0,
           1000,
           {{"to", "FILE", "where the page goes; without it, into the pipe behind"},
            {"figures", "DIR", "also each figure as PNG and SVG, into that folder"},
            json_option},
           {"kestrum report --to /srv/office/kestrum.html", "kestrum report wardens --figures figures",
            "kestrum report /media/tern-1/ --to tern-1.html"}},
          report};
}

}  // namespace kestrum
