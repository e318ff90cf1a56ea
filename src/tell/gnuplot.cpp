#include "tell/gnuplot.hpp"

#include <sys/stat.h>
#include <sys/wait.h>

#include <csignal>
#include <cstdio>

#include "base/error.hpp"
#include "base/text.hpp"
#include "tell/output_file.hpp"

namespace kestrum {

void check_figure_name(const std::string& path) {
  if (path.ends_with(".png") || path.ends_with(".svg")) return;
  throw Error(ErrorKind::usage,
              "a figure is written as PNG or SVG, and '" + printable(path) + "' says neither",
              "let the name end in .png or .svg");
}

std::string plot_text(const std::string& text) {
  std::string out = "'";
  for (char c : printable(text)) out += c == '\'' ? std::string("''") : std::string(1, c);
  return out + "'";
}

void draw_figure(const std::string& script, const std::string& path) {
  check_figure_name(path);
  OutputFile file(path);
  std::string terminal = path.ends_with(".svg") ? "svg size 1280,800 dynamic" : "pngcairo size 1280,800";
  std::string all = "set terminal " + terminal + " noenhanced font 'DejaVu Sans,13' background '#ffffff'\n" +
                    "set encoding utf8\nset output " + plot_text(file.temporary()) + "\n" + script +
                    "\nset output\n";
  // A script that is refused ends gnuplot before it has read all of it.
  auto before = std::signal(SIGPIPE, SIG_IGN);
  FILE* gnuplot = popen("gnuplot 2>/dev/null", "we");
  bool sent = gnuplot != nullptr && std::fwrite(all.data(), 1, all.size(), gnuplot) == all.size();
  int status = gnuplot == nullptr ? -1 : pclose(gnuplot);
  std::signal(SIGPIPE, before);
  if (WIFEXITED(status) && WEXITSTATUS(status) == 127)
    throw Error(ErrorKind::failed, "figures are drawn by gnuplot, which is not installed",
                "install the package gnuplot-nox");
  struct stat made {};
  if (!sent || status != 0 || stat(file.temporary().c_str(), &made) != 0 || made.st_size == 0)
    throw Error(ErrorKind::failed, "the figure " + printable(path) + " could not be drawn",
                "is there room for it, and does its folder take files?");
  file.keep();
}

}  // namespace kestrum
