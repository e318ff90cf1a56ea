// The verbs of the program, one file each; main finds them here.
#pragma once

#include "cli/arguments.hpp"
#include "cli/environment.hpp"
#include "engine/session.hpp"
#include "engine/version_search.hpp"

namespace kestrum {

struct Verb {
  VerbSpec spec;
  // Returns the exit code; throws Error.
  int (*run)(const Arguments& arguments, const Environment& environment);
};

Verb job_define_verb();
Verb job_list_verb();
Verb job_show_verb();
Verb job_check_verb();
Verb job_edit_verb();
Verb job_copy_verb();
Verb job_rename_verb();
Verb job_enable_verb();
Verb job_disable_verb();
Verb job_remove_verb();
Verb job_rebuild_verb();
Verb preview_verb();
Verb run_verb();
Verb points_verb();
Verb browse_verb();
Verb find_verb();
Verb versions_verb();
Verb compare_verb();
Verb open_verb();
Verb restore_verb();
Verb verify_verb();
Verb repair_verb();
Verb drill_verb();
Verb prune_verb();
Verb fold_verb();
Verb keep_verb();
Verb drop_verb();
Verb forecast_verb();
Verb recovery_create_verb();
Verb guard_verb();
Verb recovery_add_verb();
Verb recovery_remove_verb();
Verb passphrase_change_verb();
Verb passphrase_add_verb();
Verb passphrase_remove_verb();
Verb passphrase_test_verb();
Verb status_verb();
Verb history_verb();
Verb suggest_verb();
Verb schedule_verb();
Verb pause_verb();
Verb continue_verb();
Verb stop_verb();
Verb agent_verb();
Verb agent_run_verb();
Verb agent_check_verb();
Verb agent_drill_verb();
Verb agent_tell_verb();
Verb settings_show_verb();
Verb settings_check_verb();
Verb settings_set_verb();
Verb tell_verb();
Verb report_verb();
Verb stay_verb();
Verb agent_install_verb();
Verb agent_remove_verb();

// Those that the help shows.
std::vector<Verb> all_verbs();

// Options that every verb with a SUBJECT takes, and what they say.
std::vector<OptionSpec> subject_options();
// The same with `more` before them.
std::vector<OptionSpec> with_subject_options(std::vector<OptionSpec> more);
// `passphrase`: its source where the options give no way in.
LookSession open_subject(const Arguments& arguments, const Environment& environment, const std::string& name,
                         const std::string& passphrase = {});
// A job's over all its drives that are connected.
std::vector<LookSession> open_subjects(const Arguments& arguments, const Environment& environment,
                                       const std::string& name);
// The point that --at means, on whichever drive it is.
struct ChosenPoint {
  std::vector<LookSession> subjects;
  std::size_t at = 0;  // of them
  PointWish wish;
  std::string drive;  // "tern-1:", before the point's number; empty when there is only one
  LookSession& subject() { return subjects[at]; }
};
ChosenPoint open_at(const Arguments& arguments, const Environment& environment);
// The same of subjects that are open already.
ChosenPoint chosen_of(std::vector<LookSession> subjects, const Arguments& arguments,
                      const Environment& environment);
// The point that has what was looked for becomes the chosen one.
void move_to(ChosenPoint& chosen, const LastSeen& seen);
// Of [JOB...|DIR]: a destination is meant, and no job.
bool names_a_place(const std::vector<std::string>& words);
extern const OptionSpec at_option;
inline constexpr const char* subject_words =
    "SUBJECT is a job's name, or a path on a destination: the destination itself, a job's folder, a set's "
    "folder or any file in it, or label:NAME of the drive; no job file is needed then.";
inline constexpr const char* when_words =
    "WHEN is latest, a point's number, a date (the end of that day), \"2027-03-14 09:30\", 09:30, yesterday, "
    "tuesday, \"last week\", \"tuesday 09:30\", or \"3 days ago\": the newest point that is not later. "
    "tern-1:12 is point 12 on the drive tern-1.";

}  // namespace kestrum
