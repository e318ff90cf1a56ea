// browse, and what every verb with a SUBJECT shares.
#include <fmt/format.h>

#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/entry_rows.hpp"
#include "cli/path_words.hpp"
#include "cli/print.hpp"
#include "cli/recovery_words.hpp"
#include "cli/version_lines.hpp"
#include "engine/guard.hpp"
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

LookSession open_subject(const Arguments& arguments, const Environment& environment, const std::string& name,
                         const std::string& passphrase) {
  SubjectOptions options = options_of(arguments, environment, name);
  if (!passphrase.empty() && !options.passphrase && !options.recovery_key) options.passphrase = passphrase;
  LookSession session = LookSession::open(&environment.home(), options);
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
  for (const LookSession& subject : chosen.subjects) {
    for (const std::string& line : subject.unproved_lines()) err("note: {}\n", line);
  }
  if (std::string line = passed_over(chosen.subject().sets(), chosen.wish); !line.empty())
    err("note: {}\n", line);
  return chosen;
}

ChosenPoint open_at(const Arguments& arguments, const Environment& environment) {
  return chosen_of(open_subjects(arguments, environment, arguments.words()[0]), arguments, environment);
}

namespace {

void sort_by(const std::string& order, std::vector<Listing::Child>& children) {
  using Child = Listing::Child;
  const auto size = [](const Child& child) {
    return child.below ? child.below->bytes : child.entry.has_content() ? child.entry.size : 0;
  };
  const auto is_folder = [](const Child& child) { return child.entry.type == EntryType::folder; };
  std::stable_sort(children.begin(), children.end(), [&](const Child& a, const Child& b) {
    if (order == "size") return size(b) < size(a);
    if (order == "changed") return b.entry.modified < a.entry.modified;
    if (order == "type") return is_folder(b) < is_folder(a);
    return false;
  });
}

// `deep`: with their paths from the folder on.
void print_listing(const Listing& listing, DiskToday& disk, bool deep) {
  Table table = entry_table();
  if (listing.self.type != EntryType::folder)
    table.row(entry_row(listing.self, std::string(listing.self.path.name()), disk.look(listing.self)));
  for (const Listing::Child& child : listing.children) {
    std::optional<std::uint64_t> below;
    if (child.below) below = child.below->bytes;
    const std::string shown =
        deep ? child.entry.path.below(listing.self.path).joined() : std::string(child.entry.path.name());
    table.row(entry_row(child.entry, shown, disk.look(child.entry), below));
  }
  if (listing.children.empty() && listing.self.type == EntryType::folder && listing.findings.empty()) {
    const bool listed = !listing.self.incomplete;
    out("  ({})\n",
        listed ? "empty" : "it could not be listed when the point was made: what was in it is not known");
  } else {
    print(table);
  }
}

int browse_path(const Arguments& arguments, const Environment& environment) {
  ChosenPoint chosen = open_at(arguments, environment);
  const WantedPath wanted = wanted_path(arguments.words().size() > 1 ? arguments.words()[1] : "/");
  const bool deep = arguments.has("deep");
  std::optional<std::pair<SetFacts, Listing>> looked;
  try {
    looked = with_current_sets(chosen.subject(), [&] {
      OpenPoint point(chosen.subject(), chosen.wish);
      return std::pair(point.facts(), browse(point, path_in(point, wanted), {.sums = !deep, .deep = deep}));
    });
  } catch (const NoSuchPath& missing) {
    throw say_where_last(missing, chosen, arguments, "browse");
  }
  auto& [facts, listing] = *looked;
  sort_by(arguments.value("sort").value_or("name"), listing.children);
  DiskToday disk(is_of_here(chosen.subject(), environment));
  if (arguments.has("json")) {
    print_document(browse_document(facts, listing, disk));
  } else {
    out("Point {}{}: {}\n\n", chosen.drive, point_text(facts), printable(listing.self.path.absolute()));
    print_listing(listing, disk, deep);
    for (const std::string& line : listing.findings) err("note: {}\n", line);
  }
  return listing.findings.empty() ? exit_done : exit_code_of(ErrorKind::damage);
}

}  // namespace

Verb browse_verb() {
  return {
      {"browse",
       "SUBJECT [PATH]",
       "list a folder as it was",
       std::string("Of a folder the size is that of all that is in it. What is not on this machine's disk "
                   "any more is marked as gone, what has another size or time there as different.\n") +
           subject_words + "\n" + when_words,
       1,
       2,
       with_subject_options({at_option,
                             {"deep", "", "all that is below, not only what is directly in it"},
                             {"sort",
                              "HOW",
                              "name, size, changed (the largest or newest first) or type (usual: name)",
                              false,
                              {"name", "size", "changed", "type"}}}),
       {"kestrum browse wardens /srv/ringing --at yesterday", "kestrum browse wardens /srv --sort size"}},
      browse_path};
}
}  // namespace kestrum
