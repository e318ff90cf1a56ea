// A job: what to save, where to, how. The value of a job file after it was checked.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/set_facts.hpp"
#include "calendar/phrase.hpp"

namespace kestrum {

enum class Encryption { aes_256_gcm, none };

struct Job {
  std::string name;
  std::string file;  // where it was read from
  std::string text;  // as it stands there

  std::vector<std::string> folders;  // [what]
  std::vector<std::string> skip;
  std::vector<std::string> destinations;  // [where]; one at present
  std::vector<Phrase> runs;               // [when]; none: by hand
  bool catch_up = true;                   // a missed run is made up for
  Kind kind = Kind::incremental;          // [how]
  std::optional<unsigned> renew_every_sets = 30;
  std::string compression = "normal";
  int level = 3;
  std::uint64_t volume_bytes = std::uint64_t{1} << 30;
  Encryption encryption = Encryption::aes_256_gcm;  // [protect]
  std::string passphrase = "ask";                   // or "file:/path"
  std::string recovery_key;                         // file with the public part; empty: none
  bool read_back = true;                            // [check] after-run
};

// A name that can be a job's: printable UTF-8 without '/', not starting with '.' or '-', at most 100 bytes.
// Throws Error of kind usage otherwise.
void check_job_name(const std::string& name);

}  // namespace kestrum
