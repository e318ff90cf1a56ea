// Each place that makes something durable, by name: a test takes them out one at a time and must then fail.
#pragma once

#include <string>

namespace kestrum {

// Whether the flush of that name is to be done: always, but in a test that has left it out.
bool flush_point(const char* name);

// All there are; docs/ARCHITECTURE.md says what each is for.
inline constexpr const char* all_flush_points[] = {
    "content of a file",  "name of a small file",        "name of a folder",
    "name of drive.json", "folder of a new set",         "names of a set's files",
    "mark of removal",    "files taken over by folding", "what a run goes on with"};

// For tests: leaves out the flush of that name; empty: none. Not for two threads.
void leave_out_flush(const std::string& name);

}  // namespace kestrum
