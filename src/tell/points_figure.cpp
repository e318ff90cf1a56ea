#include "tell/points_figure.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "tell/figure_units.hpp"

namespace kestrum {
namespace {

struct Look {
  const char* name;
  const char* colour;
};
constexpr Look looks[] = {{"full", "#1f4e79"}, {"differential", "#c77f1a"}, {"incremental", "#5b9bd5"}};
constexpr Look damaged_look{"damaged or incomplete", "#c00000"};

std::size_t look_of(Kind kind) {
  return kind == Kind::full ? 0 : kind == Kind::differential ? 1 : 2;
}

struct TimeSpan {
  double from = 0, to = 0;
};

// Sealed points of one drive, and what is common to its picture.
class DriveRow {
 public:
  explicit DriveRow(const PointsResult& drive) : drive_(drive) {
    for (const PointInfo& info : drive.points) {
      if (!info.sealed) continue;
      points_.push_back(&info);
      std::uint64_t bytes = std::max<std::uint64_t>(info.facts.totals.stored_bytes, 1);
      largest_ = std::max(largest_, bytes);
      smallest_ = std::min(smallest_, bytes);
      time_.from = std::min(time_.from, x_of(info));
      time_.to = std::max(time_.to, x_of(info));
    }
    double pad = std::max((time_.to - time_.from) * 0.03, 3600.0 * 12);
    time_.from -= pad;
    time_.to += pad;
  }

  bool empty() const { return points_.empty(); }

  std::string script(bool keyed) const {
    FigureUnit unit = figure_unit(largest_);
    bool log = largest_ / smallest_ >= 20;
    double top = static_cast<double>(largest_) / unit.bytes * (log ? 4 : 1.25);
    double bottom = log ? static_cast<double>(smallest_) / unit.bytes / 3 : 0;
    std::string script = "unset label\nunset object\nset xdata time\nset timefmt '%s'\n";
    script += fmt::format("set xrange ['{:.0f}':'{:.0f}']\n", time_.from, time_.to);
    script += fmt::format("set format x \"{}\"\n",
                          time_.to - time_.from < 3 * 86400 ? "%d %b\\n%H:%M" : "%d %b\\n%Y");
    script += log ? "set logscale y\n" : "unset logscale y\n";
    script += fmt::format("set yrange [{}:{}]\nset ylabel 'stored, {}{}'\n", bottom, top, unit.name,
                          log ? " (logarithmic)" : "");
    script +=
        "set title " +
        plot_text(fmt::format("Drive {}: {} in {}, {}", drive_.drive, count_text(points_.size(), "point"),
                              count_text(chains().size(), "chain"), size_text(stored()))) +
        " font ',13' offset 0,-0.4\n";
    script += chains_script(bottom, top);
    script += bars_script(unit, bottom, keyed);
    return script;
  }

 private:
  // Local time, for an axis that knows no zones.
  static double x_of(const PointInfo& info) {
    return static_cast<double>(info.facts.started.seconds + local_offset_seconds(info.facts.started));
  }

  std::uint64_t stored() const {
    std::uint64_t bytes = 0;
    for (const PointInfo* info : points_) bytes += info->facts.totals.stored_bytes;
    return bytes;
  }

  std::vector<std::vector<const PointInfo*>> chains() const {
    std::vector<std::vector<const PointInfo*>> out;
    for (const PointInfo* info : points_) {
      if (out.empty() || out.back().back()->facts.chain != info->facts.chain) out.emplace_back();
      out.back().push_back(info);
    }
    return out;
  }

  double width() const {
    double closest = (time_.to - time_.from) / 12;
    for (std::size_t i = 1; i < points_.size(); ++i)
      closest = std::min(closest, std::max(x_of(*points_[i]) - x_of(*points_[i - 1]), 1.0));
    return std::max(closest * 0.38, (time_.to - time_.from) / 900);
  }

  // A pale ground behind each chain, every second one darker, with its points above.
  std::string chains_script(double bottom, double top) const {
    std::string script;
    double half = width() * 1.25;
    int number = 0;
    for (const auto& members : chains()) {
      double from = x_of(*members.front()) - half, to = x_of(*members.back()) + half;
      ++number;
      script += fmt::format(
          "set object rectangle from '{:.0f}',{} to '{:.0f}',{} behind fillcolor rgb '{}' fillstyle solid 1 "
          "noborder\n",
          from, bottom, to, top, number % 2 == 1 ? "#eef3f8" : "#e0e8f0");
      // Where a chain is too narrow for words, only every so many are named.
      double share = (to - from) / (time_.to - time_.from);
      std::string name = members.size() == 1 ? std::to_string(members.front()->sequence)
                                             : fmt::format("{}\xe2\x80\x93{}", members.front()->sequence,
                                                           members.back()->sequence);
      if (share > 0.012 * static_cast<double>(name.size()))
        script += fmt::format("set label {} at '{:.0f}',graph 0.95 center font ',11' textcolor '#444444'\n",
                              plot_text(name), (from + to) / 2);
    }
    return script;
  }

  std::string bars_script(const FigureUnit& unit, double bottom, bool keyed) const {
    std::vector<std::string> data(std::size(looks) + 1);
    for (const PointInfo* info : points_) {
      std::size_t which = info->good() ? look_of(info->facts.kind) : std::size(looks);
      data[which] += fmt::format("{:.0f} {}\n", x_of(*info),
                                 static_cast<double>(info->facts.totals.stored_bytes) / unit.bytes);
    }
    std::string script;
    std::vector<std::string> plots;
    for (std::size_t i = 0; i < data.size(); ++i) {
      const Look& look = i < std::size(looks) ? looks[i] : damaged_look;
      if (data[i].empty()) continue;
      script += fmt::format("$set{} << END\n{}END\n", i, data[i]);
      plots.push_back(
          fmt::format("$set{0} using 1:2:($1-{1:.0f}):($1+{1:.0f}):({2}):2 with boxxyerror fs solid 1 "
                      "noborder lc rgb '{3}' title '{4}'",
                      i, width(), bottom, look.colour, look.name));
    }
    script +=
        keyed ? "set key at screen 0.98,0.965 right top horizontal maxrows 1 samplen 1.5\n" : "unset key\n";
    return script + "plot " + join(plots, ", ") + "\n";
  }

  const PointsResult& drive_;
  std::vector<const PointInfo*> points_;
  std::uint64_t largest_ = 1, smallest_ = UINT64_MAX;
  TimeSpan time_{1e18, -1e18};
};

}  // namespace

void draw_points(const std::vector<PointsResult>& drives, const std::string& path) {
  std::vector<DriveRow> rows;
  for (const PointsResult& drive : drives) {
    DriveRow row(drive);
    if (!row.empty()) rows.push_back(std::move(row));
  }
  if (rows.empty()) throw Error(ErrorKind::usage, "there is no point to draw", "run the job first");
  std::string script =
      "set border 3\nset tics nomirror\nset grid ytics lt 1 lc rgb '#dddddd'\nset lmargin 12\nset rmargin 4\n"
      "set boxwidth 0.8\n";
  script += fmt::format("set multiplot title {} font ',15' offset 0,-0.2\n",
                        plot_text("Points of " + drives[0].job + ", " + drives[0].machine));
  double height = 0.91 / static_cast<double>(rows.size());
  for (std::size_t i = 0; i < rows.size(); ++i) {
    script +=
        fmt::format("set size 1,{}\nset origin 0,{}\n", height, 0.91 - height * static_cast<double>(i + 1));
    script += rows[i].script(i == 0);
  }
  draw_figure(script + "unset multiplot\n", path);
}

}  // namespace kestrum
