// The runs of the last weeks as a picture: what each stored, how long it took, what became of it.
#pragma once

#include <string>
#include <vector>

#include "ledger/ledger.hpp"

namespace kestrum {

// A script for tell/gnuplot. `days`: that are shown, up to `now`. `runs`: in any order, at least one.
std::string runs_script(const std::vector<RunEntry>& runs, Instant now, int days);
// What it shows, in a sentence, for those who do not see it.
std::string runs_words(const std::vector<RunEntry>& runs, int days);

}  // namespace kestrum
