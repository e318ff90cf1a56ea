// A job brought back from a destination: its file as the newest point holds it, what a machine remembers of
// it, and its history.
#pragma once

#include "engine/look.hpp"
#include "engine/restore.hpp"

namespace kestrum {

struct JobOnDrive {
  Job job;                          // as it was, under its new name
  SetFacts point;                   // that it was saved with
  bool authenticated = false;       // else anybody who could write there could have made it
  bool encrypted = false;           // only who has a way in reads it, whoever made it
  std::vector<std::string> unread;  // newer points that do not tell it, and why
};

// Of the newest point that tells it, of those that the way in at hand proves (prove_by_path). Throws Error:
// usage when there is no point, or the file does not read; key, damage as the newest point does when none
// tells it, and key where some points are encrypted and no way in was given.
JobOnDrive job_on_drive(LookSession& subject, const std::string& name);

// What is otherwise on this machine.
struct RebuildHere {
  std::vector<PathMap> map = {};                   // of what is saved, and what is left out of it
  std::map<std::string, std::string> people = {};  // accounts under other names
  std::vector<KeyChange> changes = {};             // said key by key; they win
};
struct RebuiltFile {
  std::string text;
  std::vector<std::string> notes;  // what was changed for a reason of its own, in plain words
};
// The job's file for this machine: the destination is where it is now, and of a point that anybody could have
// made nothing comes along that names a place to read or write for whoever runs the job, or a command. Throws
// Error of kind usage when it would be no valid job, or its passphrase lies at the destination itself.
RebuiltFile file_for_here(const JobOnDrive& found, const LookSession& subject, const RebuildHere& here);

// An absolute path, or a pattern that is one, as it is here.
std::string mapped_text(const std::string& path, const std::vector<PathMap>& map);

// What of the job is not on this machine: folders, people, files of keys.
struct MissingHere {
  std::vector<std::string> folders;  // of [what]
  std::vector<std::string> people;
  std::string passphrase_file;  // empty: it is there, or none is named
  std::vector<std::string> recovery_files;
};
MissingHere missing_here(const Job& job, const People& people);

struct Rebuilt {
  std::uint64_t points = 0;                 // taken into the history
  std::vector<std::string> troubles;        // what could not be brought back, and why
  std::vector<std::string> recovery_files;  // written anew from the seals
};
// The job is here already, and the sets become its own: memory and history as a rebuilt one has them, its
// file stays as it is. Throws Error of kind usage when it does not save to that place.
Rebuilt take_over_sets(const Home& home, const Job& job, LookSession& subject);
// Writes memory, history and, last, the job's file. Throws Error: usage when there is such a job; failed.
Rebuilt rebuild_job(const Home& home, const JobOnDrive& found, const std::string& text, LookSession& subject);

}  // namespace kestrum
