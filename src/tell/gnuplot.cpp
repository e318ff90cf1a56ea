#include "tell/gnuplot.hpp"

#include <sys/stat.h>
#include <sys/wait.h>

#include <csignal>
#include <cstdio>
#include <filesystem>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/random.hpp"
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

void draw_figure(const std::string& script, const std::string& path, const FigureSize& size) {
  check_figure_name(path);
  OutputFile file(path);
  const std::string area = std::to_string(size.width) + "," + std::to_string(size.height);
  const std::string terminal =
      path.ends_with(".svg") ? "svg size " + area + " dynamic" : "pngcairo size " + area;
  std::string all = "set terminal " + terminal + " noenhanced font 'DejaVu Sans," +
                    std::to_string(size.font) + "' background '#ffffff'\n" +
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

std::string figure_svg(const std::string& script, const FigureSize& size) {
  const std::string path =
      std::filesystem::temp_directory_path().string() + "/kestrum-figure-" + to_hex(random_bytes(8)) + ".svg";
  draw_figure(script, path, size);
  constexpr std::size_t most = 8u << 20;
  try {
    const Bytes content = read_small_file(path, most);
    std::filesystem::remove(path);
    return std::string(as_text(content));
  } catch (const Error&) {
    std::filesystem::remove(path);
    throw;
  }
}

}  // namespace kestrum
