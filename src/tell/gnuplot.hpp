// Figures are drawn by gnuplot, as PNG or SVG, of 1280 by 800 where nothing else is said.
#pragma once

#include <string>

namespace kestrum {

// Whether figures can be written under that name: it must end in .png or .svg. Throws Error of kind usage.
void check_figure_name(const std::string& path);

struct FigureSize {
  int width = 1280, height = 800;
  int font = 13;
};

// Draws what the script says into the file. The terminal, the font and the encoding are set already. Throws
// Error of kind failed: gnuplot is not there or refused the script, the file cannot be written.
void draw_figure(const std::string& script, const std::string& path, const FigureSize& size = {});
// The same as the text of an SVG file. Throws as above.
std::string figure_svg(const std::string& script, const FigureSize& size);

// Text in a script: quoted, nothing in it means anything.
std::string plot_text(const std::string& text);

}  // namespace kestrum
