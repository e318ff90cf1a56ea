// forecast.

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "plan/plan_words.hpp"
#include "tell/documents.hpp"
#include "tell/forecast_figure.hpp"

namespace kestrum {
namespace {

// Every day of two weeks, of longer times about twenty of them.
void print_days(const Forecast& forecast) {
  using enum Table::Align;
  Table table({{"DAY", left},
               {"RUNS", right},
               {"POINTS", right},
               {"ON THE DRIVE", right},
               {"AT MOST", right},
               {"RESTORE NEEDS", right}});
  std::size_t count = forecast.days.size();
  std::size_t every = count <= 15 ? 1 : (count + 19) / 20;
  unsigned runs = 0, failed = 0;
  std::uint64_t peak = 0;
  for (std::size_t i = 0; i < count; ++i) {
    const ForecastDay& day = forecast.days[i];
    runs += day.runs - day.failed;
    failed += day.failed;
    peak = std::max(peak, day.peak_bytes);
    if ((i + 1) % every != 0 && i + 1 < count) continue;
    std::string text = std::to_string(runs);
    if (failed > 0) text += ", " + std::to_string(failed) + " without room";
    table.row({day_text(day.ends), text, grouped(day.points), size_text(day.job_bytes), size_text(peak),
               count_text(day.restore_sets, "set")});
    runs = failed = 0;
    peak = 0;
  }
  print(table);
  out("\n");
}

std::string full_text(const Forecast& forecast) {
  return forecast.full_on ? day_text(*forecast.full_on) : std::string("never");
}

void print_ways(const JobForecast& forecast) {
  using enum Table::Align;
  Table table({{.heading = "SETS", .may_break = true},
               {"RUNS", right},
               {"WRITTEN", right, 2},
               {"IN THE END", right},
               {"AT MOST", right},
               {"POINTS", right},
               {"RESTORE NEEDS", right, 1},
               {"DRIVE FULL", left}});
  for (const Scenario& one : forecast.scenarios) {
    const Forecast& result = one.forecast;
    table.row({one.name + (one.own ? " (as now)" : ""), grouped(result.runs), size_text(result.written_bytes),
               size_text(result.days.back().job_bytes), size_text(result.peak_bytes),
               grouped(result.days.back().points), "up to " + count_text(result.most_restore_sets, "set"),
               full_text(result)});
  }
  out("The same data in other ways:\n\n");
  print(table);
  out("\n");
}

void print_forecast(const JobForecast& forecast) {
  const ForecastQuestion& question = forecast.question;
  const SizeModel& sizes = question.sizes;
  const Scenario* own = nullptr;
  for (const Scenario& one : forecast.scenarios) own = one.own ? &one : own;
  out("{} in {}, the next {}\n", printable(forecast.job), printable(forecast.root),
      count_text(question.days, "day"));
  out("{} of {} free. A full set takes about {}{}; one with a day's changes about {}{}.\n",
      size_text(question.free), size_text(question.total), size_text(sizes.full_bytes),
      sizes.full_assumed ? ", by a sample" : "", size_text(sizes.changed_bytes(1)),
      sizes.change_assumed ? ", which is a guess: there is no history yet" : ", by the sets so far");
  if (!forecast.scheduled) out("The job has no times of its own: one run a day is taken for it.\n");
  out("\n");
  print_days(own->forecast);
  if (own->forecast.full_on)
    out("On {} the drive is full for this job: the next set does not fit, whatever the keep rules let go.\n",
        local_text(*own->forecast.full_on));
  for (const Promise& broken : own->forecast.broken)
    out("{}.\n", broken_rule_text(rule_text(broken, own->forecast.rules)));
  print_ways(forecast);
}

int forecast(const Arguments& arguments, const Environment& environment) {
  std::optional<std::string> figure = arguments.value("figure");
  if (figure) check_figure_name(*figure);
  unsigned days = static_cast<unsigned>(arguments.number("days", 1, 3660).value_or(90));
  Progress progress(environment, arguments.has("quiet"));
  RunContext context = run_context(environment, progress);
  JobForecast result = forecast_job(arguments.words()[0], days, context);
  progress.finish();
  if (figure) draw_forecast(result, *figure);
  if (arguments.has("json")) {
    print_document(forecast_document(result));
    return exit_done;
  }
  print_forecast(result);
  if (figure) out("The figure is in {}.\n", printable(*figure));
  return exit_done;
}

}  // namespace

Verb forecast_verb() {
  return {{"forecast",
           "JOB",
           "show how the drive fills over the coming days",
           "The schedule, the kinds and the keep rules are simulated, with sizes from the sets so far. "
           "Nothing is "
           "written.",
           1,
           1,
           {{"days", "N", "how far ahead, 1 to 3660 (usual: 90)"},
            {"figure", "FILE", "draw it, into a .png or .svg file"},
            {"quiet", "", "no progress"},
            json_option},
           {"kestrum forecast wardens --days 365", "kestrum forecast wardens --figure /tmp/forecast.png"}},
          forecast};
}

}  // namespace kestrum
