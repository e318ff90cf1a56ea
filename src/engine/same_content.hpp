// Whether a file on this machine holds what a point has of it.
#pragma once

#include "archive/chain_reader.hpp"
#include "base/run_control.hpp"

namespace kestrum {

// Reads the file from where it is, to its end at most. By the names of the chunks, so that nothing of the
// archive but the list of them is read. What cannot be read cannot be told to be the same.
bool same_content(PointReader& reader, const Entry& entry, int fd, RunControl& control);

// Reads exactly so many bytes from where the file is; false at its end.
bool read_exactly(int fd, Bytes& out, std::uint64_t length);

}  // namespace kestrum
