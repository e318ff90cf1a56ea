// What became of a drive that was there when it was opened.
#pragma once

#include "engine/destination.hpp"

namespace kestrum {

// Nothing while it is the one that was opened; else no_destination (unmounted) or wrong_drive (another is in
// its place).
std::optional<Error> drive_trouble(const Destination& destination);

// What an error means, seen with where the drive is now: one that went away, or does not answer any more, is
// the reason for whatever failed after it.
Error seen_with_drive(const Destination& destination, const Error& error);

}  // namespace kestrum
