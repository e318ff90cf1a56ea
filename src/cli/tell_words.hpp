// What became of mail, printed.
#pragma once

#include "tell/telling.hpp"

namespace kestrum {

// What was sent on standard output, what could not be on standard error.
void print_told(const TellDone& done);
int told_exit(const TellDone& done);

}  // namespace kestrum
