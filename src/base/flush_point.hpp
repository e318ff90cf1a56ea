// Each place that makes something durable, by name: a test takes them out one at a time and must then fail.
#pragma once

#include <string>

namespace kestrum {

// Whether the flush of that name is to be done: always, but in a test that has left it out.
bool flush_point(const char* name);

// All there are, by their numbers in docs/ARCHITECTURE.md, "What must be on the drive before what".
inline constexpr const char* all_flush_points[] = {
    "1: content of a file",  "2: name of a small file",        "3: name of a folder",
    "4: name of drive.json", "5: folder of a new set",         "6: names of a set's files",
    "7: mark of removal",    "8: files taken over by folding", "9: what a run goes on with",
    "10: a mended file"};

// For tests: leaves out the flush of that name; empty: none. Not for two threads.
void leave_out_flush(const std::string& name);

}  // namespace kestrum
