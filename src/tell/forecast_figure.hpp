// A forecast as a picture: what the job takes on its drive, by day, for each way of doing it.
#pragma once

#include <string>

#include "engine/outlook.hpp"
#include "tell/gnuplot.hpp"

namespace kestrum {

// How it goes as the job is, and nothing else: for a small figure.
std::string own_forecast_script(const JobForecast& forecast);

// Throws Error (see tell/gnuplot.hpp).
void draw_forecast(const JobForecast& forecast, const std::string& path);

}  // namespace kestrum
