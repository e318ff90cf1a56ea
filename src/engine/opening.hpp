// Whether a file opens in what usually opens it: a picture decodes, a database answers its own check, an
// archive lists. By programs that are common on desktops, where one is there.
#pragma once

#include <string>

#include "base/run_control.hpp"

namespace kestrum {

struct Opening {
  enum class How {
    unknown,     // nothing is known that opens such files
    no_program,  // what opens it is not on this machine
    opens,
    fails,
    not_ended,  // within the time that it was given
  };
  How how = How::unknown;
  std::string as;       // "picture", "database"; empty with unknown
  std::string program;  // that was asked, or those that would do
  std::string why;      // what it said, where it fails
};

// Looks at the file's first bytes, and at the end of its name where these are text. The file is not changed.
// `beside`: a folder that things may be put into. Throws Error of kind failed where the file cannot be read;
// Stopped.
Opening try_opening(const std::string& path, const std::string& beside, RunControl& control);

}  // namespace kestrum
