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

namespace {

struct Frame {
  FigureUnit unit;
  std::uint64_t most = 1;   // that is shown
  std::uint64_t limit = 0;  // shown as a line; 0: none
  double first = 0, last = 0;
};

std::string way_data(const Scenario& one, std::size_t number, Frame& frame) {
  std::string script = fmt::format("$way{} << END\n", number);
  for (const ForecastDay& day : one.forecast.days) {
    script +=
        fmt::format("{:.0f} {} {}\n", x_of(day.ends), static_cast<double>(day.job_bytes) / frame.unit.bytes,
                    static_cast<double>(day.peak_bytes) / frame.unit.bytes);
    if (frame.first == 0) frame.first = x_of(day.ends);
    frame.last = x_of(day.ends);
  }
  return script + "END\n";
}

std::string frame_script(const Frame& frame) {
  const double top = static_cast<double>(std::max(frame.most, frame.limit)) / frame.unit.bytes * 1.12;
  std::string script =
      "set border 3\nset tics nomirror\nset grid ytics lt 1 lc rgb '#dddddd'\nset xdata time\nset timefmt "
      "'%s'\n";
  script += fmt::format("set format x \"%d %b\\n%Y\"\nset xrange ['{:.0f}':'{:.0f}']\nset yrange [0:{}]\n",
                        frame.first, frame.last, top);
  script += fmt::format("set ylabel 'the job on the drive, {}'\nset rmargin 5\n", frame.unit.name);
  if (frame.limit > 0) {
    const double y = static_cast<double>(frame.limit) / frame.unit.bytes;
    script += fmt::format(
        "set arrow from graph 0,first {0} to graph 1,first {0} nohead lw 2 dt 2 lc rgb '#c00000'\n", y);
    script += fmt::format("set label {} at graph 0.01,first {} offset 0,0.6 textcolor '#c00000'\n",
                          plot_text("no more than " + size_text(frame.limit)), y);
  }
  return script;
}

Frame frame_of(const JobForecast& forecast, bool own_only) {
  Frame frame{.unit = {}};
  for (const Scenario& one : forecast.scenarios) {
    if (one.own || !own_only) frame.most = std::max(frame.most, one.forecast.peak_bytes);
  }
  const std::uint64_t limit = ceiling(forecast.question);
  if (limit > 0 && limit < frame.most * 3) frame.limit = limit;
  frame.unit = figure_unit(frame.most);
  return frame;
}

}  // namespace

void draw_forecast(const JobForecast& forecast, const std::string& path) {
  Frame frame = frame_of(forecast, false);
  std::string script, plots;
  for (std::size_t i = 0; i < forecast.scenarios.size(); ++i) {
    const Scenario& one = forecast.scenarios[i];
    script += way_data(one, i, frame);
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
  const std::string head = fmt::format("{}: the next {}; {} of {} free on the drive", forecast.job,
                                       count_text(forecast.question.days, "day"),
                                       size_text(forecast.question.free), size_text(forecast.question.total));
  script += "set title " + plot_text(head) + " font ',15'\nset key below samplen 2\n" + frame_script(frame);
  draw_figure(script + "plot " + plots + "\n", path);
}

std::string own_forecast_script(const JobForecast& forecast) {
  Frame frame = frame_of(forecast, true);
  std::string script, plots;
  for (const Scenario& one : forecast.scenarios) {
    if (!one.own) continue;
    script = way_data(one, 0, frame);
    plots =
        "$way0 using 1:2:3 with filledcurves fs solid 0.25 noborder lc rgb '#1f4e79' notitle, $way0 using "
        "1:2 with "
        "steps lw 2.5 lc rgb '#1f4e79' notitle";
  }
  return script + frame_script(frame) + "set ylabel 'on the drive, " + frame.unit.name +
         "'\nunset mxtics\nset xtics 2592000\nset format x '%d %b'\nunset key\nplot " + plots + "\n";
}

}  // namespace kestrum
