#include "tell/forecast_figure.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "tell/figure_units.hpp"

namespace kestrum {
namespace {

constexpr const char* colours[] = {"#7f7f7f", "#c77f1a", "#2e75b6", "#548235", "#7030a0"};

double x_of(Instant when) {
  return static_cast<double>(when.seconds + local_offset_seconds(when));
}

// The most that the job's sets may take, by the limits and the drive.
std::uint64_t ceiling(const ForecastQuestion& question) {
  std::uint64_t held = 0;
  for (const KeptSet& set : question.sets) held += set.facts.totals.stored_bytes;
  std::int64_t room = room_left(acting_rules(question.keep), held, question.total, question.free);
  std::int64_t most = static_cast<std::int64_t>(held) + room;
  return most > 0 ? static_cast<std::uint64_t>(most) : 0;
}

}  // namespace

void draw_forecast(const JobForecast& forecast, const std::string& path) {
  std::uint64_t most = 1;
  for (const Scenario& one : forecast.scenarios) most = std::max(most, one.forecast.peak_bytes);
  std::uint64_t limit = ceiling(forecast.question);
  bool limit_shown = limit > 0 && limit < most * 3;
  FigureUnit unit = figure_unit(most);
  std::string script, plots;
  double first = 0, last = 0;
  for (std::size_t i = 0; i < forecast.scenarios.size(); ++i) {
    const Scenario& one = forecast.scenarios[i];
    script += fmt::format("$way{} << END\n", i);
    for (const ForecastDay& day : one.forecast.days) {
      script += fmt::format("{:.0f} {} {}\n", x_of(day.ends), static_cast<double>(day.job_bytes) / unit.bytes,
                            static_cast<double>(day.peak_bytes) / unit.bytes);
      if (first == 0) first = x_of(day.ends);
      last = x_of(day.ends);
    }
    script += "END\n";
    const char* colour = colours[i % std::size(colours)];
    std::string title = one.name + (one.own ? " (as the job is)" : "");
    if (one.own)
      plots += fmt::format(
          "{}$way{} using 1:2:3 with filledcurves fs solid 0.25 noborder lc rgb '{}' title 'for a while, "
          "while sets are "
          "written and folded'",
          plots.empty() ? "" : ", ", i, colour);
    plots += fmt::format("{}$way{} using 1:2 with steps lw {} lc rgb '{}' title {}",
                         plots.empty() ? "" : ", ", i, one.own ? 3.5 : 1.8, colour, plot_text(title));
  }
  double top = static_cast<double>(limit_shown ? std::max(most, limit) : most) / unit.bytes * 1.12;
  std::string head = fmt::format("{}: the next {}; {} of {} free on the drive", forecast.job,
                                 count_text(forecast.question.days, "day"), size_text(forecast.question.free),
                                 size_text(forecast.question.total));
  script += "set title " + plot_text(head) +
            " font ',15'\nset border 3\nset tics nomirror\n"
            "set grid ytics lt 1 lc rgb '#dddddd'\nset xdata time\nset timefmt '%s'\n";
  script += fmt::format("set format x \"%d %b\\n%Y\"\nset xrange ['{:.0f}':'{:.0f}']\nset yrange [0:{}]\n",
                        first, last, top);
  script += fmt::format("set ylabel 'the job on the drive, {}'\nset key below samplen 2\nset rmargin 5\n",
                        unit.name);
  if (limit_shown) {
    double y = static_cast<double>(limit) / unit.bytes;
    script += fmt::format(
        "set arrow from graph 0,first {0} to graph 1,first {0} nohead lw 2 dt 2 lc rgb '#c00000'\n", y);
    script += fmt::format("set label {} at graph 0.01,first {} offset 0,0.6 textcolor '#c00000'\n",
                          plot_text("no more than " + size_text(limit)), y);
  }
  draw_figure(script + "plot " + plots + "\n", path);
}

}  // namespace kestrum
