// A rehearsed restore in words and as a page: worded once.
#pragma once

#include "engine/drill.hpp"
#include "ledger/drill_book.hpp"

namespace kestrum {

// "On Sat 14 March 2027 200 of 8,412 files were brought back and compared, and are as they were saved. A full
// restore would take about 40 minutes."
std::string drill_sentence(const DrillEntry& drill);
// What came of it, a line each: of the sample, of today's files, of what opens, of the trials.
std::vector<std::string> drill_lines(const DrillResult& result);
// What to do about files that did not come back as they were saved; empty where all did.
std::string drill_advice(const DrillEntry& drill);
// Why a file needs a look; empty where it does not. `when`: of the drill.
std::string drilled_trouble(const DrilledFile& file);

// For the owner of the files: one HTML file.
std::string drill_page(const DrillResult& result, const DrillEntry& entry);
std::string drill_document(const DrillResult& result, const DrillEntry& entry);

}  // namespace kestrum
