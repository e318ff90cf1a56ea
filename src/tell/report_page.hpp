// A report as one HTML page that needs nothing else: no script, no other file. And its figures as files.
#pragma once

#include "engine/report.hpp"

namespace kestrum {

// Figures are drawn for the worst of very many jobs; the others keep their words. Without gnuplot the page
// has none and says so.
std::string report_page(const Report& report);

// As PNG and SVG into the folder, which is made: NAME-runs, NAME-points, NAME-forecast. The files' names come
// back. Throws Error (tell/gnuplot.hpp).
std::vector<std::string> write_figures(const Report& report, const std::string& folder);

// "2 of 3 jobs need a look."
std::string report_sentence(const Report& report);
// Of one job, what its drive will do: "It will not be full within 90 days."
std::string forecast_sentence(const JobForecast& forecast);

std::string report_document(const Report& report);

}  // namespace kestrum
