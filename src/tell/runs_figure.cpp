#include "tell/runs_figure.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "tell/figure_units.hpp"
#include "tell/gnuplot.hpp"

namespace kestrum {
namespace {

// Told apart by shape and place, and by colours that differ in lightness too.
constexpr const char* good_colour = "#1f4e79";
constexpr const char* problem_colour = "#c77f1a";
constexpr const char* failed_colour = "#c00000";

double x_of(Instant when) {
  return static_cast<double>(when.seconds + local_offset_seconds(when));
}

struct Counts {
  std::size_t good = 0, problems = 0, failed = 0;
};

enum class Came { good, problems, failed };

Came came(const RunEntry& run) {
  if (!run.sequence) return Came::failed;
  return run.result == RunResult::done ? Came::good : Came::problems;
}

Counts counts_of(const std::vector<RunEntry>& runs) {
  Counts counts;
  for (const RunEntry& run : runs) {
    if (!run.ended && !run.cut_off()) continue;
    ++(came(run) == Came::good ? counts.good : came(run) == Came::problems ? counts.problems : counts.failed);
  }
  return counts;
}

// The unit of an axis of lengths.
struct LengthUnit {
  const char* name;
  double seconds;
};
LengthUnit length_unit(double most) {
  if (most >= 2 * 3600) return {"hours", 3600};
  if (most >= 120) return {"minutes", 60};
  return {"seconds", 1};
}

class Figure {
 public:
  Figure(const std::vector<RunEntry>& runs, Instant now, int days) : runs_(runs), now_(now) {
    std::int64_t first = now.seconds;
    for (const RunEntry& run : runs) {
      first = std::min(first, run.started.seconds);
      if (run.sequence) {
        most_ = std::max(most_, run.totals.stored_bytes);
        least_ = std::min(least_, std::max<std::uint64_t>(run.totals.stored_bytes, 1));
      }
      longest_ = std::max(longest_, seconds_of(run));
    }
    // Of a job that has only just begun not all of the weeks.
    constexpr int fewest = 14;
    days_ = std::clamp(static_cast<int>((now.seconds - first) / 86400) + 2, std::min(fewest, days), days);
  }

  std::string script() const {
    const FigureUnit unit = figure_unit(most_);
    const LengthUnit length = length_unit(longest_);
    const bool log = least_ <= most_ && most_ / least_ >= 20;
    const double bottom = log ? static_cast<double>(least_) / unit.bytes / 4 : 0;
    std::string script =
        "set border 3\nset tics nomirror\nset grid ytics lt 1 lc rgb '#dddddd'\nset xdata time\nset timefmt "
        "'%s'\nunset key\nset lmargin 11\nset rmargin 3\n";
    constexpr int week = 7 * 86400, narrow = 28;
    script += fmt::format("set xrange ['{:.0f}':'{:.0f}']\nset xtics {}\n", x_of(now_) - days_ * 86400.0,
                          x_of(now_) + 43200.0, days_ > narrow ? 2 * week : week);
    const bool lengths = longest_ > 0;
    script += "unset mxtics\nset multiplot\n";
    if (lengths) script += "set size 1,0.55\nset origin 0,0.45\nset format x ''\nset bmargin 0.6\n";
    if (!lengths) script += "set format x '%d %b'\n";
    script += "set tmargin 2.2\n";
    script += counts_label();
    script += log ? "set logscale y\nunset mytics\n" : "";
    const double top = static_cast<double>(most_) / unit.bytes * (log ? 2.5 : 1.15);
    script += fmt::format("set yrange [{}:{}]\n", bottom, top) +
              axis_label(std::string("stored, ") + unit.name + (log ? " (logarithmic)" : ""));
    script +=
        panel([&](const RunEntry& run) { return static_cast<double>(run.totals.stored_bytes) / unit.bytes; },
              bottom, log ? bottom * std::pow(top / bottom, 0.07) : top * 0.07);
    if (!lengths) return script + "unset multiplot\n";
    script +=
        "unset label\nunset logscale y\nset size 1,0.45\nset origin 0,0\nset bmargin 2.4\nset tmargin 0.6\n";
    script += fmt::format("set format x '%d %b'\nset yrange [0:{}]\n", longest_ / length.seconds * 1.15) +
              axis_label(std::string("took, ") + length.name);
    script += panel([&](const RunEntry& run) { return seconds_of(run) / length.seconds; }, 0, std::nullopt);
    return script + "unset multiplot\n";
  }

 private:
  static double seconds_of(const RunEntry& run) {
    return run.ended ? std::max(0.0, std::chrono::duration<double>(between(run.started, *run.ended)).count())
                     : 0;
  }

  // At the same place whatever stands at the axis.
  static std::string axis_label(const std::string& words) {
    return "set label " + plot_text(words) + " at screen 0.02,graph 0.5 center rotate\n";
  }

  // Words in the colour and with the mark of what they count.
  std::string counts_label() const {
    const Counts counts = counts_of(runs_);
    std::string script = fmt::format("set label {} at graph 0,1.1 left textcolor '{}'\n",
                                     plot_text(count_text(counts.good, "good run")), good_colour);
    if (counts.problems > 0)
      script += fmt::format("set label {} at graph 0.5,1.1 center textcolor '{}'\n",
                            plot_text("\u25b2 " + std::to_string(counts.problems) + " with problems"),
                            problem_colour);
    if (counts.failed > 0)
      script += fmt::format("set label {} at graph 1,1.1 right textcolor '{}'\n",
                            plot_text("\u2715 " + std::to_string(counts.failed) + " without a point"),
                            failed_colour);
    return script;
  }

  template <typename Height>
  std::string panel(Height&& height, double bottom, std::optional<double> failed_at) const {
    std::string good, problems, failed;
    for (const RunEntry& run : runs_) {
      const std::string point = fmt::format("{:.0f} {}\n", x_of(run.started), std::max(height(run), bottom));
      (came(run) == Came::good ? good : came(run) == Came::problems ? problems : failed) += point;
    }
    std::string data, plots;
    const auto add = [&](const char* name, const std::string& points, const std::string& way) {
      if (points.empty()) return;
      data += fmt::format("${} << END\n{}END\n", name, points);
      plots += (plots.empty() ? "" : ", ") + way;
    };
    add("good", good, fmt::format("$good using 1:2 with impulses lw 3 lc rgb '{}'", good_colour));
    add("problems", problems,
        fmt::format("$problems using 1:2 with impulses lw 3 lc rgb '{0}', $problems using 1:2 with points pt "
                    "9 ps 1.1 "
                    "lc rgb '{0}'",
                    problem_colour));
    // At the foot: they stored nothing.
    if (failed_at)
      add("failed", failed,
          fmt::format("$failed using 1:({}) with points pt 2 ps 1 lw 2 lc rgb '{}'", *failed_at,
                      failed_colour));
    if (plots.empty()) plots = "NaN";
    return data + "plot " + plots + "\n";
  }

  const std::vector<RunEntry>& runs_;
  Instant now_;
  int days_ = 1;
  std::uint64_t most_ = 1, least_ = UINT64_MAX;
  double longest_ = 0;
};

}  // namespace

std::string runs_script(const std::vector<RunEntry>& runs, Instant now, int days) {
  return Figure(runs, now, days).script();
}

std::string runs_words(const std::vector<RunEntry>& runs, int days) {
  const Counts counts = counts_of(runs);
  std::string text = "In the last " + count_text(static_cast<std::uint64_t>(days), "day") + ": " +
                     count_text(counts.good, "good run");
  if (counts.problems > 0) text += ", " + std::to_string(counts.problems) + " with problems";
  if (counts.failed > 0) text += ", " + std::to_string(counts.failed) + " without a point";
  return text + ".";
}

}  // namespace kestrum
