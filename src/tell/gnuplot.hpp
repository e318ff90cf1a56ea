// Figures are drawn by gnuplot, as PNG or SVG of 1280 by 800.
#pragma once

#include <string>

namespace kestrum {

// Whether figures can be written under that name: it must end in .png or .svg. Throws Error of kind usage.
void check_figure_name(const std::string& path);

// Draws what the script says into the file. The terminal, the font and the encoding are set already. Throws
// Error of kind failed: gnuplot is not there or refused the script, the file cannot be written.
void draw_figure(const std::string& script, const std::string& path);

// Text in a script: quoted, nothing in it means anything.
std::string plot_text(const std::string& text);

}  // namespace kestrum
