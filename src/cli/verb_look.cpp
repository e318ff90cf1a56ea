// browse, and what every verb with a SUBJECT shares.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/entry_rows.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/recovery_words.hpp"
#include "cli/verbs.hpp"
#include "tell/documents.hpp"

namespace kestrum {

std::vector<OptionSpec> subject_options() {
  return {{"machine", "NAME", "on a destination with several: the machine"},
          {"job", "NAME", "on a destination with several: the job"},
          {"passphrase", "SOURCE", "file:/path, or ask (usual: as the job says, else ask)"},
          {"recovery-key", "FILE",
           "open the sets with this recovery key and nothing else; ask: type it in, from paper"},
          {"json", "", "print the result as JSON"}};
}

std::vector<OptionSpec> with_subject_options(std::vector<OptionSpec> more) {
  for (OptionSpec& option : subject_options()) more.push_back(std::move(option));
  return more;
}

namespace {

SubjectOptions options_of(const Arguments& arguments, const Environment& environment,
                          const std::string& name) {
  SubjectOptions options;
  options.subject = name;
  options.machine = arguments.value("machine").value_or("");
  options.job = arguments.value("job").value_or("");
  options.passphrase = arguments.value("passphrase");
  if (options.passphrase && *options.passphrase != "ask" && !options.passphrase->starts_with("file:")) {
    throw Error(ErrorKind::usage, "--passphrase does not say where the passphrase comes from",
                "write file:/path, or ask; never the passphrase itself");
  }
  if (std::optional<std::string> file = arguments.value("recovery-key")) {
    if (options.passphrase)
      throw Error(ErrorKind::usage, "--passphrase and --recovery-key are two ways in", "give one of them");
    options.recovery_key = *file == "ask" ? ask_recovery_key(environment) : read_recovery_secret(*file);
  } else {
    options.ask = environment.ask();
  }
  return options;
}

void warn_of(const LookSession& session) {
  if (std::string line = session.anybody_wrote(); !line.empty()) err("note: {}\n", line);
}

}  // namespace

LookSession open_subject(const Arguments& arguments, const Environment& environment,
                         const std::string& name) {
  LookSession session = LookSession::open(&environment.home(), options_of(arguments, environment, name));
  warn_of(session);
  return session;
}

std::vector<LookSession> open_subjects(const Arguments& arguments, const Environment& environment,
                                       const std::string& name) {
  std::vector<LookSession> sessions =
      LookSession::open_each(&environment.home(), options_of(arguments, environment, name),
                             [](const std::string& text) { err("note: {}\n", text); });
  for (const LookSession& session : sessions) warn_of(session);
  return sessions;
}

const OptionSpec at_option{"at", "WHEN", "the point (usual: latest)"};

static std::string drive_words(ChosenPoint& chosen) {
  return chosen.subjects.size() > 1 ? printable(chosen.subject().drive_name()) + ":" : std::string();
}

void move_to(ChosenPoint& chosen, const LastSeen& seen) {
  chosen.at = seen.session;
  chosen.wish = {PointWish::By::number, seen.point.sequence, {}};
  chosen.drive = drive_words(chosen);
}

ChosenPoint chosen_of(std::vector<LookSession> subjects, const Arguments& arguments,
                      const Environment& environment) {
  const DrivePoint point = choose_drive(subjects, arguments.value("at"), environment.clock().now());
  ChosenPoint chosen{std::move(subjects), point.session, point.wish, {}};
  chosen.drive = drive_words(chosen);
  return chosen;
}

ChosenPoint open_at(const Arguments& arguments, const Environment& environment) {
  return chosen_of(open_subjects(arguments, environment, arguments.words()[0]), arguments, environment);
}

namespace {

int browse_path(const Arguments& arguments, const Environment& environment) {
  ChosenPoint chosen = open_at(arguments, environment);
  const WantedPath wanted = wanted_path(arguments.words().size() > 1 ? arguments.words()[1] : "/");
  std::optional<std::pair<SetFacts, Listing>> looked;
  try {
    looked = with_current_sets(chosen.subject(), [&] {
      OpenPoint point(chosen.subject(), chosen.wish);
      return std::pair(point.facts(), browse(point, path_in(point, wanted)));
    });
  } catch (const NoSuchPath& missing) {
    throw say_where_last(missing, chosen, arguments, "browse");
  }
  const auto& [facts, listing] = *looked;
  if (arguments.has("json")) {
    print_document(browse_document(facts, listing));
    return exit_done;
  }
  out("Point {}{}: {}\n\n", chosen.drive, point_text(facts), printable(listing.self.path.absolute()));
  Table table = entry_table();
  if (listing.self.type != EntryType::folder)
    table.row(entry_row(listing.self, std::string(listing.self.path.name())));
  for (const Entry& entry : listing.children) table.row(entry_row(entry, std::string(entry.path.name())));
  if (listing.children.empty() && listing.self.type == EntryType::folder) {
    const bool listed = !listing.self.incomplete;
    out("  ({})\n",
        listed ? "empty" : "it could not be listed when the point was made: what was in it is not known");
  } else {
    print(table);
  }
  return exit_done;
}

}  // namespace

Verb browse_verb() {
  return {{"browse",
           "SUBJECT [PATH]",
           "list a folder as it was",
           std::string(subject_words) + "\n" + when_words,
           1,
           2,
           with_subject_options({at_option}),
           {"kestrum browse wardens /srv/ringing --at yesterday"}},
          browse_path};
}
}  // namespace kestrum
