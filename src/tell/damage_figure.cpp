#include "tell/damage_figure.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "rules/keep_rules.hpp"
#include "tell/figure_units.hpp"
#include "tell/gnuplot.hpp"

namespace kestrum {
namespace {

constexpr const char* file_colours[] = {"#bcd3ea", "#d9e6f3"};  // a set's files, by turns
constexpr const char* bad_colour = "#c00000";
constexpr std::size_t most_rows = 24, least_rows = 6;

// One drive: a bar for each set, its files one behind the other, what does not read in red.
class DrivePicture {
 public:
  explicit DrivePicture(const DriveVerdict& drive) : drive_(drive) {
    for (const PointVerdict& point : drive.result.points) {
      if (!point.files.empty()) rows_.push_back(&point);
    }
    // Where there are too many, those without damage are left out, the oldest first.
    const auto is_bad = [](const PointVerdict* point) { return !point->lost.empty(); };
    for (std::size_t i = 0; i < rows_.size() && rows_.size() > most_rows;) {
      if (is_bad(rows_[i])) {
        ++i;
      } else {
        rows_.erase(rows_.begin() + static_cast<std::ptrdiff_t>(i));
      }
    }
    rows_.resize(std::min(rows_.size(), most_rows));
    for (const PointVerdict* row : rows_) largest_ = std::max(largest_, bytes_of(*row));
  }

  std::string script() const {
    const FigureUnit unit = figure_unit(largest_);
    const double top = static_cast<double>(largest_) / unit.bytes;
    std::string script = "unset label\nunset object\n";
    script += fmt::format("set xrange [0:{}]\nset yrange [{}:0.4]\n", top * 1.3,
                          static_cast<double>(std::max(rows_.size(), least_rows)) + 0.6);
    script += fmt::format("set xlabel 'bytes of the set, its files one behind the other, {}'\n", unit.name);
    script += "set title " + plot_text(title()) + " font ',14'\n";
    std::vector<std::string> names;
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      const double y = static_cast<double>(i) + 1;
      const PointVerdict& row = *rows_[i];
      names.push_back(fmt::format(
          "{} {}",
          plot_text("point " + std::to_string(row.sequence) + ", " + std::string(kind_name(row.facts->kind))),
          y));
      script += row_script(row, y, unit);
    }
    script += "set ytics (" + join(names, ", ") + ")\nplot NaN notitle\n";
    return script;
  }

 private:
  static std::uint64_t bytes_of(const PointVerdict& point) {
    std::uint64_t bytes = 0;
    for (const SealedFile& file : point.files) bytes += file.size;
    return std::max<std::uint64_t>(bytes, 1);
  }

  std::string title() const {
    std::uint64_t bytes = 0;
    for (const BadPlace& place : drive_.result.places) bytes += place.bytes();
    const std::size_t count = drive_.result.places.size();
    const std::string drive = printable(drive_.drive);
    if (count == 0) return drive + ": everything that was looked at reads";
    return fmt::format("{}: {} of the sets, {}, {} not read", drive, count_text(count, "place"),
                       size_text(bytes), count == 1 ? "does" : "do");
  }

  static std::string rectangle(double from, double to, double y, double half, const char* colour, int layer) {
    return fmt::format(
        "set object rectangle from {},{} to {},{} {} fillcolor rgb '{}' fillstyle solid 1 noborder\n", from,
        y - half, to, y + half, layer == 0 ? "behind" : "front", colour);
  }

  std::string row_script(const PointVerdict& row, double y, const FigureUnit& unit) const {
    constexpr double half = 0.33;
    const double least = static_cast<double>(largest_) / unit.bytes * 0.004;  // that is seen
    std::string script;
    std::uint64_t at = 0, affected = 0, places = 0;
    int number = 0;
    std::set<Sequence> points;
    for (const SealedFile& file : row.files) {
      const auto x = [&](std::uint64_t offset) { return static_cast<double>(at + offset) / unit.bytes; };
      script += rectangle(x(0), x(file.size), y, half, file_colours[number++ % 2], 0);
      for (const BadPlace& place : drive_.result.places) {
        if (place.set != row.sequence || place.slot != file.slot) continue;
        script +=
            rectangle(x(place.from), std::max(x(place.to), x(place.from) + least), y, half, bad_colour, 1);
        affected += place.files;
        ++places;
        points.insert(place.points.begin(), place.points.end());
      }
      at += file.size;
    }
    std::string text = size_text(at);
    // One file may need several of the places.
    if (!row.lost.empty())
      text = affected == 0 ? std::string("no file is known to need it")
                           : std::string(places > 1 ? "at most " : "") + count_text(affected, "file") +
                                 ", points " + sequences_text({points.begin(), points.end()});
    script += fmt::format("set label {} at {},{} left font ',11' textcolor '{}'\n", plot_text(text),
                          static_cast<double>(at) / unit.bytes + least * 3, y,
                          row.lost.empty() ? "#444444" : bad_colour);
    return script;
  }

  const DriveVerdict& drive_;
  std::vector<const PointVerdict*> rows_;
  std::uint64_t largest_ = 1;
};

}  // namespace

void draw_damage(const std::vector<DriveVerdict>& verdicts, const std::string& path) {
  std::string script = fmt::format(
      "set multiplot layout {},1\nset border 3\nset tics nomirror out\nset grid x lc rgb '#dddddd'\n"
      "set lmargin 24\nset rmargin 3\nunset key\n",
      verdicts.size());
  for (const DriveVerdict& drive : verdicts) script += DrivePicture(drive).script();
  draw_figure(script + "unset multiplot\n", path);
}

}  // namespace kestrum
