#include "tell/preview_files.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.hpp"
#include "tell/csv_field.hpp"
#include "tell/figure_units.hpp"
#include "tell/gnuplot.hpp"

namespace kestrum {
namespace {

// One bar is made of these, in this order.
struct BarPart {
  const char* name;
  const char* colour;
  FileCount VerdictCounts::*part;
};
constexpr BarPart bar_parts[] = {
    {"already held", "#9fb4c4", &VerdictCounts::held},
    {"new", "#33658a", &VerdictCounts::added},
    {"changed", "#f0a202", &VerdictCounts::changed},
    {"only attributes changed", "#86415c", &VerdictCounts::attributes},
};

// The end of a long path says more than its start.
std::string shortened(const std::string& text, std::size_t most) {
  std::string shown = printable(text);
  if (shown.size() <= most) return shown;
  std::size_t at = shown.size() - most + 3;
  while (at < shown.size() && (static_cast<unsigned char>(shown[at]) & 0xc0) == 0x80) ++at;
  return "..." + shown.substr(at);
}

// The largest ones, the rest as one.
std::vector<NamedCounts> bars_of(const std::vector<NamedCounts>& all, std::size_t most) {
  std::vector<NamedCounts> bars(all.begin(),
                                all.begin() + static_cast<std::ptrdiff_t>(std::min(all.size(), most)));
  if (all.size() <= most) return bars;
  NamedCounts rest;
  rest.name = fmt::format("{} smaller ones", all.size() - most);
  for (std::size_t i = most; i < all.size(); ++i) {
    for (const BarPart& stretch : bar_parts) {
      (rest.counts.*stretch.part).files += (all[i].counts.*stretch.part).files;
      (rest.counts.*stretch.part).bytes += (all[i].counts.*stretch.part).bytes;
    }
  }
  bars.push_back(rest);
  return bars;
}

// Bars from the top down, one under the other. `keyed`: with the meaning of the colours.
std::string bar_chart(const std::vector<NamedCounts>& bars, const std::string& title, bool keyed) {
  std::uint64_t most = 1;
  for (const NamedCounts& bar : bars) most = std::max(most, bar.counts.all().bytes);
  FigureUnit unit = figure_unit(most);
  std::string data = "$bars << END\n";
  std::string tics, labels;
  auto rows = static_cast<double>(bars.size());
  for (std::size_t i = 0; i < bars.size(); ++i) {
    double y = rows - static_cast<double>(i);
    double x = 0;
    for (const BarPart& stretch : bar_parts) {
      double to = x + static_cast<double>((bars[i].counts.*stretch.part).bytes) / unit.bytes;
      data += fmt::format("{} {} {} ", y, x, to);
      x = to;
    }
    data += "\n";
    FileCount all = bars[i].counts.all();
    tics += fmt::format("{}{} {}", i == 0 ? "" : ", ", plot_text(shortened(bars[i].name, 38)), y);
    labels += fmt::format("set label {} at {},{} left offset 0.6,0 font ',11' textcolor '#444444'\n",
                          plot_text(size_text(all.bytes) + ", " + count_text(all.files, "file")), x, y);
  }
  std::string script = data + "END\n";
  script += "unset label\nset title " + plot_text(title) + " font ',14' offset 0,-0.3\n";
  script += fmt::format("set xrange [0:{}]\nset yrange [0.4:{}]\n",
                        static_cast<double>(most) / unit.bytes * 1.28, rows + 0.6);
  script += "set ytics (" + tics + ") scale 0\n" + labels;
  script += fmt::format("set xlabel 'size of the files, {}'\n", unit.name);
  script += keyed ? "set key at screen 0.97,0.945 right top horizontal maxrows 1 samplen 1.5 width -1\n"
                  : "unset key\n";
  std::vector<std::string> plots;
  for (std::size_t i = 0; i < std::size(bar_parts); ++i) {
    plots.push_back(
        fmt::format("$bars using (0):1:{0}:{1}:($1-0.34):($1+0.34) with boxxyerror fs solid 1 noborder "
                    "lc rgb '{2}' title '{3}'",
                    2 + 3 * i, 3 + 3 * i, bar_parts[i].colour, bar_parts[i].name));
  }
  return script + "plot " + join(plots, ", ") + "\n";
}

}  // namespace

PreviewList::PreviewList(const std::string& path) : file_(path) {
  file_.write("verdict,bytes,category,path,why,pattern\r\n");
}

void PreviewList::add(const PreviewItem& item) {
  std::string path = printable(item.path.absolute()) + (item.folder ? "/" : "");
  file_.write(std::string(verdict_word(item.verdict)) + "," + std::to_string(item.size) + "," +
              csv_field(item.category) + "," + csv_field(path) + "," + csv_field(item.why) + "," +
              csv_field(item.verdict == Verdict::left_out ? "" : exact_pattern(item.path, item.folder)) +
              "\r\n");
}

void draw_preview(const std::string& job, const PreviewResult& preview, const std::string& path) {
  FileCount all = preview.all.all();
  std::string head =
      fmt::format("{}: {}, {}. This {} set would take about {}; the drive has {} free", shortened(job, 30),
                  count_text(all.files, "file"), size_text(all.bytes), kind_name(preview.next.kind),
                  size_text(preview.estimate.stored_bytes), size_text(preview.free_bytes));
  bool two = preview.categories.size() > 1;
  std::vector<NamedCounts> folders = bars_of(preview.top_folders, two ? 10 : 16);
  if (folders.empty()) folders.push_back({"nothing to save", {}});
  std::string script =
      "set border 1\nset tics nomirror\nset grid xtics lt 1 lc rgb '#dddddd'\nset rmargin 3\nset lmargin "
      "42\n";
  script += "set multiplot title " + plot_text(head) + " font ',15' offset 0,-0.3\n";
  if (two) {
    std::vector<NamedCounts> categories = preview.categories;
    std::stable_sort(categories.begin(), categories.end(), [](const NamedCounts& a, const NamedCounts& b) {
      return a.counts.all().bytes > b.counts.all().bytes;
    });
    categories = bars_of(categories, 8);
    double share = 0.24 + 0.3 * static_cast<double>(categories.size()) /
                              static_cast<double>(categories.size() + folders.size());
    script += fmt::format("set size 1,{}\nset origin 0,{}\n", share, 0.91 - share);
    script += bar_chart(categories, "By category", false);
    script += fmt::format("set size 1,{}\nset origin 0,0\n", 0.91 - share);
  } else {
    script += "set size 1,0.91\nset origin 0,0\n";
  }
  script += bar_chart(folders, "By top folder", true) + "unset multiplot\n";
  draw_figure(script, path);
}

}  // namespace kestrum
