#include "base/exit_codes.hpp"

#include <array>

namespace kestrum {
namespace {

constexpr std::array<ExitCode, 12> table{{
    {0, "done", "everything asked for was done", 0},
    {1, "done with problems", "done, but single files had problems; each is listed", 1},
    {2, "wrong usage", "the command or the job file is wrong; nothing was done", 4},
    {3, "failed", "the work could not be done", 10},
    {4, "damage found", "an archive set does not read as it was written", 11},
    {5, "destination not there",
     "the destination is missing, does not answer, is no destination, or cannot be written", 6},
    {6, "busy", "another run is writing the same job's sets", 3},
    {7, "key refused", "no passphrase, a wrong one, or one that others may read", 7},
    {8, "wrong drive", "another drive is where the job's drive should be", 8},
    {9, "full", "there is no space left", 9},
    {10, "suspect", "suspiciously much has changed; a person should look", 5},
    {11, "stopped", "stopped by the person", 2},
}};

}  // namespace

std::span<const ExitCode> exit_codes() {
  return table;
}

int exit_code_of(ErrorKind kind) {
  switch (kind) {
    case ErrorKind::usage:
      return 2;
    case ErrorKind::failed:
      return 3;
    case ErrorKind::damage:
      return 4;
    case ErrorKind::no_destination:
    case ErrorKind::not_reachable:
      return 5;
    case ErrorKind::busy:
      return 6;
    case ErrorKind::key:
      return 7;
    case ErrorKind::wrong_drive:
      return 8;
    case ErrorKind::full:
      return 9;
    case ErrorKind::suspect:
      return 10;
    case ErrorKind::stopped:
      return 11;
  }
  return 3;
}

int worse_exit(int a, int b) {
  return table.at(static_cast<std::size_t>(a)).severity >= table.at(static_cast<std::size_t>(b)).severity ? a
                                                                                                          : b;
}

}  // namespace kestrum
