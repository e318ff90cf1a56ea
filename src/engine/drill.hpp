// A rehearsed restore: a sample of a point's files is brought back by the code that restores, compared, and
// opened.
#pragma once

#include "engine/opening.hpp"
#include "engine/restore.hpp"

namespace kestrum {

struct DrillRequest {
  std::optional<PointWish> at;                   // none: the newest point
  std::uint32_t files = 200;                     // in the sample, at least 1
  std::uint64_t bytes = std::uint64_t{2} << 30;  // of content, at most, besides `always`
  std::vector<WantedPath> always = {};           // files and folders that are in it whatever the chance says
  std::optional<std::uint64_t> seed = {};        // the same sample each time
  std::string scratch = {};                      // a folder, in which one is made for what is brought back
  bool keep = false;                             // it stays there; else it is gone afterwards
  bool rebuild = false;                          // what could be lost besides files is tried, too
};

// One file of the sample.
struct DrilledFile {
  enum class State {
    good,       // it is as the point has it
    missing,    // it did not come back
    different,  // it came back, and is not as the point has it
  };
  enum class Source {
    unknown,  // the disk is another machine's, or what is there does not read
    same,     // what is on the disk now is the same, byte for byte
    changed,  // the one on the disk was changed since, or is gone
    differs,  // other content at the same size and time
  };
  std::string path;
  std::uint64_t size = 0;
  bool wanted = false;  // it had to be in it
  State state = State::good;
  std::string why;  // it is not good
  Source source = Source::unknown;
  Opening opening;
  bool opens() const { return opening.how == Opening::How::opens; }
  bool fails_to_open() const { return opening.how == Opening::How::fails; }
};

// Something else than files that was tried.
struct RebuildTrial {
  std::string what;  // "the job and its history"
  bool good = false;
  std::string words;  // what came of it
};

struct DrillResult {
  SetFacts point;
  std::string drive;
  std::uint64_t seed = 0;
  std::uint64_t all_files = 0, all_bytes = 0;  // regular files of the point, and their sizes
  std::vector<DrilledFile> files;
  std::uint64_t bytes = 0;            // of those that came back
  bool unlisted = false;              // a part of the point's list does not read
  std::vector<std::string> troubles;  // of the sample as a whole: a file that had to be in it is not there
  double seconds = 0;                 // that bringing back took
  double all_seconds = 0;             // about as long everything would take
  std::string kept_in;                // where the files are, if they are
  std::vector<RebuildTrial> trials;
  std::uint64_t count(DrilledFile::State state) const;
  std::uint64_t count(DrilledFile::Source source) const;
  std::uint64_t opened() const;
  std::uint64_t unopened() const;  // that failed to open
  bool good() const;               // all came back as they were saved, and all trials went well
};

// `machine`: this one. Throws Error: usage (no such point), key, full, failed; Stopped. Damage is a result.
DrillResult drill(LookSession& subject, const DrillRequest& request, const std::string& machine,
                  Observer& observer, RunControl& control);

}  // namespace kestrum
