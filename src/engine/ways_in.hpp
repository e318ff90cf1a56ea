// The ways into a job's sets: a passphrase or a recovery key is added, changed or taken away in the seals of
// all its chains, on every drive that is connected. The chains' master keys stay as they are, and with them
// everything else that is there. docs/FORMAT.md section 3, "Changing the ways in".
#pragma once

#include "engine/each_drive.hpp"

namespace kestrum {

struct WaysOnDrive {
  std::string drive;  // its name
  std::string root;
  std::uint64_t points = 0;   // whose seals were looked at
  std::uint64_t changed = 0;  // of them, written anew
  std::uint64_t closed = 0;   // points that nothing at hand opens: they stay as they are
  bool unfinished = false;    // a point that is not finished was changed too
};

struct WaysOutcome {
  std::vector<WaysOnDrive> drives;
  std::vector<std::string> away;  // destinations, as the job names them: what is there opens as before
  bool job_changed = false;       // its file
  std::uint64_t changed() const;
};

// Each throws Error: usage (no such job, not encrypted, both the same, it would take away the job's own
// passphrase), key (nothing at hand opens what is there, or not the newest), and as a run does. Stopped or
// failed in between nothing is lost: what opened every set before still does until all have the new way, and
// saying the same again completes it.

// Sources as in [protect] passphrase; empty: the job's own. `old_key`: opens in place of a passphrase that is
// lost; whatever passphrases there were go then. At least one of the sources is given, or the job asks. The
// job's file names the new source before the old passphrase goes.
struct PassphraseChange {
  std::string old_source = {};
  std::string new_source = {};
  std::optional<RecoveryKey> old_key = {};
};
WaysOutcome change_passphrase(const std::string& job, const PassphraseChange& change,
                              const RunContext& context);

// A passphrase that was to go still opens points: a change was broken off, or it has not come to a drive.
struct OldWay {
  std::uint64_t points = 0;
  std::string text() const;  // empty where there are none
};
// By counting entries: those that a change is about to take away, as this home remembers, and where the seals
// of one chain differ in theirs. No key is needed.
OldWay old_way(const LookSession& session);
// What completes the change: a command.
std::string old_way_advice(const std::string& job);

// Beside those that are there. Chains that begin later open with the job's own passphrase only.
WaysOutcome add_passphrase(const std::string& job, const std::string& source, const RunContext& context);
WaysOutcome remove_passphrase(const std::string& job, const std::string& source, const RunContext& context);

// `file`: with the public part. It is named in the job as well, or no longer.
WaysOutcome add_recovery_key(const std::string& job, const std::string& file, const RunContext& context);
WaysOutcome remove_recovery_key(const std::string& job, const std::string& file, const RunContext& context);

// Whether what is at hand opens what lies on a drive.
struct WayTest {
  struct Chain {
    Sequence first = 0, last = 0;
    std::uint64_t points = 0;
    std::uint64_t opened = 0;  // of them, whose seals opened and are the chain's own
    bool unfinished = false;   // it is a point that no run has finished yet
    std::string trouble;       // why not all, or why its newest list of files does not read; empty: nothing
  };
  std::string drive;
  std::string root;
  std::vector<Chain> chains;  // in order
  bool encrypted = false;     // anything there is, or the job
  bool everything() const;
};
WayTest test_way(LookSession& session);

}  // namespace kestrum
