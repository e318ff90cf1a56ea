// job define, list, show, check, remove.
#include <fmt/format.h>

#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "cli/define_dialogue.hpp"
#include "cli/job_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/recovery_words.hpp"
#include "cli/table.hpp"
#include "cli/verbs.hpp"
#include "engine/agent_seat.hpp"
#include "engine/due_desk.hpp"
#include "engine/passphrase_place.hpp"
#include "job/job_edit.hpp"
#include "job/presets.hpp"
#include "tell/documents.hpp"
#include "tell/job_summary.hpp"

namespace kestrum {
namespace {

DestinationView view_of(const Job& job, const Environment& environment) {
  return view_destination(job, environment.people(), environment.clock().now());
}

// The keys that the answers want are made first: a job that names them can be read then.
int define_by_asking(const std::string& name, const Environment& environment) {
  StopsItself stops_itself;  // Ctrl-C gives up, and says so
  check_job_name(name);
  if (environment.home().has_job(name)) environment.home().create_job(name, "");  // says that it is there
  JobDraft draft;
  draft.name = name;
  DefineEnd end = ask_for_job(draft, environment);
  std::string text = job_text(name, draft.values);
  refuse_passphrase_at_destination(parse_job(name, environment.home().job_path(name), text));
  std::filesystem::create_directories(environment.home().jobs_folder());
  const std::optional<RecoveryKey> key = write_keys(draft);
  environment.home().create_job(name, text);
  count_times(environment.home(), environment.home().load_job(name), environment.clock().now());
  out("\nSaved the job {}.\n", printable(name));
  if (!draft.new_recovery.empty())
    out("The secret part of the recovery key is {}: take it away from this machine.\n",
        printable(draft.new_recovery));
  if (key) show_recovery_groups(*key, environment);
  if (end == DefineEnd::save) {
    out("See what it would copy:  kestrum preview {}\nRun it now:              kestrum run {}\n",
        shell_word(name), shell_word(name));
    return exit_done;
  }
  Verb verb = end == DefineEnd::preview ? preview_verb() : run_verb();
  out("\n");
  return verb.run(Arguments(verb.spec, {name}), environment);
}

int define(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  if (!arguments.any() && environment.in_and_out_are_terminals()) return define_by_asking(name, environment);
  JobValues values;
  for (const JobKey& key : job_keys()) {
    if (arguments.has(key.option())) values[{key.table, key.key}] = arguments.values(key.option());
  }
  if (std::optional<std::string> named = arguments.value("preset")) {
    for (const auto& [key, value] : preset_named(*named).values) values.try_emplace(key, value);
  }
  if (arguments.has("same-disk")) values[{"where", "same-disk"}] = {"accept"};
  std::string text;
  if (std::optional<std::string> from = arguments.value("from")) {
    Bytes content = read_small_file(*from, 1u << 20);
    std::vector<KeyChange> changes;
    for (const auto& [key, value] : values) changes.push_back({find_job_key(key.first, key.second), value});
    text = edit_job_text(name, *from, std::string(as_text(content)), changes);
  } else {
    text = job_text(name, values);
  }
  Job wanted = parse_job(name, environment.home().job_path(name), text);
  refuse_passphrase_at_destination(wanted);
  DestinationView view = view_of(wanted, environment);
  if (!wanted.same_disk && !view.shared.empty()) refuse_shared_disk(view.shared);
  environment.home().create_job(name, text);
  Job job = environment.home().load_job(name);
  count_times(environment.home(), job, environment.clock().now());
  if (arguments.has("json")) {
    print_document(job_document(job));
  } else {
    out("{}\nSee what it would copy:  kestrum preview {}\nRun it now:              kestrum run {}\n",
        job_summary(job, environment.clock().now(), agent_here(environment.home()).has_value()),
        shell_word(name), shell_word(name));
  }
  print_warnings(job, view);
  return exit_done;
}

int list(const Arguments& arguments, const Environment& environment) {
  std::vector<Job> jobs;
  std::vector<std::string> broken;
  for (const std::string& name : environment.home().job_names()) {
    try {
      jobs.push_back(environment.home().load_job(name));
    } catch (const Error& error) {
      broken.push_back(name);
      err("kestrum: {}\n  {}\n", error.what(), error.hint());
    }
  }
  if (arguments.has("json")) {
    print_document(jobs_document(jobs, broken));
  } else if (jobs.empty() && broken.empty()) {
    out("There is no job yet. Define one with: kestrum job define NAME --what-folders FOLDER "
        "--where-destinations FOLDER\n");
  } else {
    using enum Table::Align;
    Table table({{"JOB", left},
                 {"KIND", left},
                 {"DESTINATION", left},
                 {.heading = "WHAT", .may_break = true},
                 {.heading = "FOR", .may_go = 1, .may_break = true}});
    for (const Job& job : jobs) {
      table.row({printable(job.name), std::string(kind_name(job.kind)), printable(job.destinations[0]),
                 short_what(job), job.what.description});
    }
    for (const std::string& name : broken) table.row({printable(name), "(its file is wrong)", "", "", ""});
    print(table, "");
  }
  return broken.empty() ? exit_done : exit_code_of(ErrorKind::usage);
}

int show(const Arguments& arguments, const Environment& environment) {
  Job job = environment.home().load_job(arguments.words()[0]);
  if (arguments.has("json")) {
    print_document(job_document(job));
  } else {
    out("{}", job_summary(job, environment.clock().now(), agent_here(environment.home()).has_value()));
  }
  return exit_done;
}

int check(const Arguments& arguments, const Environment& environment) {
  const std::string& word = arguments.words()[0];
  Job job;
  if (word.find('/') != std::string::npos) {
    Bytes text = read_small_file(word, 1u << 20);
    job = parse_job(std::filesystem::path(word).stem().string(), word, std::string(as_text(text)));
  } else {
    job = environment.home().load_job(word);
  }
  if (arguments.has("json")) {
    print_document(job_document(job));
  } else {
    out("{} is a valid job file.\n", printable(job.file));
  }
  print_warnings(job, view_of(job, environment));
  return exit_done;
}

int remove(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  if (!environment.home().has_job(name)) environment.home().load_job(name);  // says which there are
  std::string where;
  try {
    where = environment.home().load_job(name).destinations.at(0);
  } catch (const Error&) {
    where = "its destination";  // a file that does not read can be removed all the same
  }
  environment.home().remove_job(name);
  if (arguments.has("json")) {
    print_document(done_document("job-removed", name));
  } else {
    out("Removed the job {}. Its archive sets in {} are untouched; look at them with: kestrum points {}\n",
        printable(name), printable(where), printable(where));
  }
  return exit_done;
}

}  // namespace

Verb job_define_verb() {
  VerbSpec spec{"job define", "NAME", "create a job", "", 1, 1, key_options(job_file_keys()), {}};
  spec.options.push_back({"preset", "NAME", "start from ready-made answers: own-files, homes or machine"});
  spec.options.push_back({"same-disk", "", "the destination may lie on the disk of the files themselves"});
  spec.options.push_back({"from", "FILE", "take the job from this file; other options change its keys"});
  spec.options.push_back(json_option);
  spec.details = "Every key of a job file, [table] key, is the option --table-key.";
  spec.examples = {
      "kestrum job define wardens --what-folders /srv/ringing --what-folders /srv/sightings "
      "--where-destinations /media/tern-1 --protect-passphrase file:/etc/kestrum/wardens.pass",
      "kestrum job define moths --from moths.toml --where-destinations label:tern-2"};
  return {spec, define};
}
Verb job_list_verb() {
  return {{"job list", "", "list the jobs of this machine", "", 0, 0, {json_option}, {"kestrum job list"}},
          list};
}
Verb job_show_verb() {
  return {
      {"job show", "NAME", "show one job on a page", "", 1, 1, {json_option}, {"kestrum job show wardens"}},
      show};
}
Verb job_check_verb() {
  return {{"job check",
           "NAME|FILE",
           "check a job file",
           "A file is named by a path with a '/' in it.",
           1,
           1,
           {json_option},
           {"kestrum job check wardens", "kestrum job check ./moths.toml"}},
          check};
}
Verb job_remove_verb() {
  return {{"job remove",
           "NAME",
           "forget a job; its archive sets stay",
           "",
           1,
           1,
           {json_option},
           {"kestrum job remove wardens"}},
          remove};
}

}  // namespace kestrum
