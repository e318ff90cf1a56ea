// job rebuild.
#include <algorithm>
#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/asker.hpp"
#include "cli/job_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/restore_request.hpp"
#include "cli/run_options.hpp"
#include "cli/verbs.hpp"
#include "engine/agent_seat.hpp"
#include "engine/due_desk.hpp"
#include "engine/job_rebuild.hpp"
#include "tell/documents.hpp"
#include "tell/job_summary.hpp"

namespace kestrum {
namespace {

bool is_said(const RebuildHere& here, const char* table, const char* key) {
  return std::any_of(here.changes.begin(), here.changes.end(),
                     [&](const KeyChange& one) { return one.key == find_job_key(table, key); });
}

// Asks only for what is not here.
void ask_what_differs(const JobOnDrive& found, const Environment& environment, RebuildHere& here) {
  Asker asker(environment.out_colour());
  Job job = found.job;
  for (std::string& folder : job.what.folders) folder = mapped_text(folder, here.map);
  const MissingHere missing = missing_here(job, environment.people());
  for (const std::string& folder : missing.folders) {
    if (is_said(here, "what", "folders")) break;
    const std::string to = asker.text(
        "The folder " + printable(folder) + " is not here. Where is it on this machine", folder,
        "  The path of the folder that is to be saved instead of it. Enter leaves it as it is: it can "
        "be made later, or restored.");
    const std::optional<TreePath> old = TreePath::parse(folder), now = TreePath::parse(to);
    if (to != folder && to.starts_with('/') && old && now) here.map.push_back({*old, *now});
  }
  for (const std::string& name : missing.people) {
    if (is_said(here, "what", "people")) break;
    here.people[name] = asker.text("There is no account " + printable(name) + " here. What is it called now",
                                   name, "  The name of the account whose files are to be saved.");
  }
  if (missing.passphrase_file.empty() || is_said(here, "protect", "passphrase")) return;
  const std::string source = asker.text(
      "The passphrase file " + printable(missing.passphrase_file) +
          " is not here. Where does the passphrase come from (file:/path, or ask)",
      "file:" + missing.passphrase_file,
      "  Enter leaves it as it is: write the file before the next run. With ask nothing runs unattended.");
  here.changes.push_back({find_job_key("protect", "passphrase"), KeyValues{source}});
}

void tell_rebuilt(const JobOnDrive& found, const Job& job, const Rebuilt& result, const LookSession& subject,
                  const RebuildHere& here, const Environment& environment) {
  const std::string name = shell_word(job.name);
  out("{}\n", job_summary(job, environment.clock().now(), agent_here(environment.home()).has_value()));
  out("Rebuilt {} from point {} of {}; {} taken into its history.\n", printable(job.name),
      point_text(found.point), printable(subject.drive_name()),
      count_text(result.points, "point is", "points are"));
  for (const std::string& file : result.recovery_files)
    out("The public part of its recovery key stands in {} again.\n", printable(file));
  if (subject.identity().machine != environment.machine())
    out("Its points were made on {}; from the next run on they are of this machine, {}.\n",
        printable(subject.identity().machine), printable(environment.machine()));
  std::string ways;
  for (const PathMap& one : here.map)
    ways += " --map " + shell_word(printable(one.from.absolute() + "=" + one.to.absolute()));
  out("Bring the files back:    kestrum restore {}{}\nSee what it would copy:  kestrum preview {}\n", name,
      ways.empty() ? "" : " / --in-place" + ways, name);
}

// Said, and asked where somebody is there to be asked.
void ask_about_unproved(const JobOnDrive& found, const LookSession& subject, const Arguments& arguments,
                        const Environment& environment) {
  if (found.authenticated) return;
  const std::string why =
      found.encrypted
          ? "the recovery key opens point " + point_text(found.point) + " in " + printable(subject.root()) +
                ", but does not tell who made it: its public part lies there for everybody"
          : "point " + point_text(found.point) + " in " + printable(subject.root()) +
                " is not encrypted, so nothing tells who made it";
  err("note: {}\n", why);
  if (arguments.has("unproved")) return;
  if (!environment.in_and_out_are_terminals() || arguments.has("json"))
    throw Error(ErrorKind::key, "the job is not rebuilt from what nobody proves, unless that is said",
                found.encrypted ? "give the passphrase: --passphrase file:PATH; or say --unproved"
                                : "if you know that nobody else could write there, say --unproved");
  confirm(environment, "Rebuild the job from it all the same?",
          "  Whoever could write there may have made that point, and the job's file in it. Folders to save, "
          "times and rules come along; commands, and files to read or write, do not.");
}

// The job is here: the sets become its own.
int take_over(const Arguments& arguments, const Environment& environment, const std::string& from) {
  const Job job = environment.home().load_job(arguments.words()[0]);
  const std::string name = shell_word(printable(job.name));
  LookSession subject = open_subject(arguments, environment, from, job.passphrase);
  const Rebuilt result = take_over_sets(environment.home(), job, subject);
  for (const std::string& line : subject.unproved_lines()) err("note: {}\n", line);
  if (arguments.has("json")) {
    print_document(job_document(job));
  } else {
    out("The sets of {} of {} in {} are those of the job {} of this machine now; {} taken into its history.\n"
        "Go on with them:        kestrum run {}\nSee what is there:      kestrum points {}\n",
        printable(subject.identity().name), printable(subject.identity().machine), printable(subject.root()),
        printable(job.name), count_text(result.points, "point is", "points are"), name, name);
  }
  for (const std::string& line : result.troubles) err("note: {}\n", line);
  return result.troubles.empty() ? exit_done : exit_problems;
}

void refuse_taken_name(const Environment& environment, const std::string& name, const std::string& from) {
  if (!environment.home().has_job(name)) return;
  throw Error(ErrorKind::usage, "there is a job '" + printable(name) + "' already",
              "choose another name; or to make the sets there its own: kestrum job rebuild " +
                  shell_word(name) + " --from " + shell_word(printable(from)) + " --take-over");
}

int rebuild(const Arguments& arguments, const Environment& environment) {
  const std::string& name = arguments.words()[0];
  check_job_name(name);
  const std::optional<std::string> from = arguments.value("from");
  if (!from)
    throw Error(ErrorKind::usage, "say where its sets are",
                "kestrum job rebuild " + shell_word(name) + " --from DIR");
  StopsItself stops_itself;
  if (arguments.has("take-over")) return take_over(arguments, environment, *from);
  refuse_taken_name(environment, name, *from);
  LookSession subject = open_subject(arguments, environment, *from);
  const JobOnDrive found = job_on_drive(subject, name);
  ask_about_unproved(found, subject, arguments, environment);
  RebuildHere here;
  here.map = path_maps(arguments);
  here.changes = key_changes(arguments, job_file_keys());
  if (arguments.has("same-disk"))
    here.changes.push_back({find_job_key("where", "same-disk"), std::vector<std::string>{"accept"}});
  if (environment.in_and_out_are_terminals() && !arguments.has("json"))
    ask_what_differs(found, environment, here);
  const RebuiltFile file = file_for_here(found, subject, here);
  const Job wanted = parse_job(name, environment.home().job_path(name), file.text);
  const DestinationView view = view_destination(wanted, environment.people(), environment.clock().now());
  if (!wanted.same_disk && !view.shared.empty()) refuse_shared_disk(view.shared);
  const Rebuilt result = rebuild_job(environment.home(), found, file.text, subject);
  const Job job = environment.home().load_job(name);
  count_times(environment.home(), job, environment.clock().now());
  if (arguments.has("json")) {
    print_document(job_document(job));
  } else {
    tell_rebuilt(found, job, result, subject, here, environment);
  }
  for (const std::string& line : subject.unproved_lines()) err("note: {}\n", line);
  for (const std::string& line : found.unread) err("note: passed over: {}\n", line);
  for (const std::string& line : file.notes) err("note: {}\n", line);
  for (const std::string& line : result.troubles) err("note: {}\n", line);
  const MissingHere missing = missing_here(job, environment.people());
  for (const std::string& folder : missing.folders)
    err("note: the folder {} is not here: restore it, or change it: kestrum job edit {} --what-folders "
        "FOLDER\n",
        printable(folder), shell_word(name));
  for (const std::string& person : missing.people)
    err("note: there is no account {} here: kestrum job edit {} --what-people NAME\n", printable(person),
        shell_word(name));
  if (!missing.passphrase_file.empty())
    err("note: the passphrase file {} is not here: write it, readable by you alone, before the next run\n",
        printable(missing.passphrase_file));
  print_warnings(job, view);
  return result.troubles.empty() ? exit_done : exit_problems;
}

}  // namespace

Verb job_rebuild_verb() {
  VerbSpec spec{"job rebuild",
                "NAME",
                "bring a job back from its destination, on this or another machine",
                "",
                1,
                1,
                {},
                {}};
  spec.options = with_subject_options(
      {{"from", "DIR", "the destination, the job's folder on it, a set's folder, or label:NAME of the drive"},
       {"map", "FROM=TO", "what it saved below FROM is below TO here: /home/anna=/home/a.berg", true}});
  for (OptionSpec& option : key_options(job_file_keys())) spec.options.push_back(std::move(option));
  spec.options.push_back(usual_option);
  spec.options.push_back(
      {"take-over", "", "the job is here already: its file stays, and the sets become its own"});
  spec.options.push_back({"unproved", "", "also from points of which no passphrase proves who made them"});
  spec.options.push_back({"same-disk", "", "the destination may lie on the disk of the files themselves"});
  spec.details =
      "Job file, history and what the machine remembered come back as the newest point has them; the next "
      "run goes "
      "on\nwith its chain. On a terminal it asks for what is not here: folders, people, the passphrase file. "
      "Options "
      "of keys\nchange these.";
  spec.examples = {"kestrum job rebuild wardens --from /media/tern-1",
                   "kestrum job rebuild wardens --from /media/tern-1 --map /home/anna=/home/a.berg",
                   "kestrum job rebuild wardens --from /media/tern-1/skerry-1/wardens --take-over"};
  return {spec, rebuild};
}

}  // namespace kestrum
