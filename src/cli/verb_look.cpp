// browse and find, and what every verb with a SUBJECT shares.
#include <fmt/format.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/print.hpp"
#include "cli/recovery_words.hpp"
#include "cli/table.hpp"
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

ChosenPoint open_at(const Arguments& arguments, const Environment& environment) {
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  DrivePoint chosen = choose_drive(subjects, arguments.value("at"), environment.clock().now());
  std::string drive =
      subjects.size() > 1 ? printable(subjects[chosen.session].drive_name()) + ":" : std::string();
  return {std::move(subjects[chosen.session]), chosen.wish, drive};
}

namespace {

const OptionSpec at_option{"at", "WHEN", "the point (usual: latest)"};

TreePath path_of(const std::string& text) {
  std::optional<TreePath> path = TreePath::parse(text);
  if (!path)
    throw Error(ErrorKind::usage, "'" + printable(text) + "' is no path inside a point",
                "write it from the root, like /srv/ringing, without '..'");
  return *path;
}

std::string mode_text(const Entry& entry) {
  // The letters of "ls": no entry, folder, file, link, FIFO, devices, socket, image of a device.
  std::string text(1, "?d-lpcbs-"[static_cast<std::size_t>(entry.type)]);
  const char* letters = "rwxrwxrwx";
  for (int i = 0; i < 9; ++i) text += (entry.mode >> (8 - i) & 1) != 0 ? letters[i] : '-';
  return text;
}

std::vector<std::string> entry_row(const Entry& entry, const std::string& shown) {
  std::string size = entry.has_content()               ? size_text(entry.size)
                     : entry.type == EntryType::folder ? "folder"
                                                       : std::string(entry_type_name(entry.type));
  std::string name = printable(shown) + (entry.type == EntryType::folder && !shown.ends_with('/') ? "/" : "");
  if (entry.type == EntryType::symlink) name += " -> " + printable(entry.link_target);
  if (entry.type == EntryType::device_image) name += "  (image of the device)";
  if (entry.incomplete) name += "  (incomplete)";
  if (entry.carried_from) name += "  (as it was on " + local_text(*entry.carried_from) + ")";
  if (entry.changed_while_read) name += "  (changed while it was read)";
  std::string owner = entry.owner_name.empty() ? std::to_string(entry.owner) : printable(entry.owner_name);
  return {mode_text(entry), owner, size, local_text(entry.modified), name};
}

Table entry_table() {
  using enum Table::Align;
  return Table({{"MODE", left}, {"OWNER", left}, {"SIZE", right}, {"CHANGED", left}, {"NAME", left}});
}

int browse_path(const Arguments& arguments, const Environment& environment) {
  ChosenPoint chosen = open_at(arguments, environment);
  TreePath path = path_of(arguments.words().size() > 1 ? arguments.words()[1] : "/");
  const auto [facts, listing] = with_current_sets(chosen.subject, [&] {
    OpenPoint point(chosen.subject, chosen.wish);
    return std::pair(point.facts(), browse(point, path));
  });
  if (arguments.has("json")) {
    print_document(browse_document(facts, listing));
    return exit_done;
  }
  out("Point {}{}: {}\n\n", chosen.drive, point_text(facts), printable(path.absolute()));
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

int find(const Arguments& arguments, const Environment& environment) {
  ChosenPoint chosen = open_at(arguments, environment);
  const std::string& pattern = arguments.words()[1];
  std::vector<Entry> hits;
  constexpr std::size_t most = 10000;
  std::uint64_t count = 0;
  const SetFacts facts = with_current_sets(chosen.subject, [&] {
    hits.clear();
    count = 0;
    OpenPoint point(chosen.subject, chosen.wish);
    find_names(point, pattern, [&](const Entry& entry) {
      if (++count <= most) hits.push_back(entry);
    });
    return point.facts();
  });
  if (arguments.has("json")) {
    print_document(find_document(facts, pattern, hits));
  } else if (hits.empty()) {
    out("Nothing in point {}{} has a name like '{}'.\n", chosen.drive, point_text(facts), printable(pattern));
  } else {
    out("Point {}{}: {}\n\n", chosen.drive, point_text(facts), count_text(count, "hit"));
    Table table = entry_table();
    for (const Entry& entry : hits) table.row(entry_row(entry, entry.path.absolute()));
    print(table);
    if (count > most) out("  and {} more: use a narrower pattern\n", count - most);
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
Verb find_verb() {
  return {{"find",
           "SUBJECT PATTERN",
           "search a point for names",
           std::string("PATTERN is a part of the name, or a pattern with * and ?; with a '/' in it, it is "
                       "held against the whole path.\n") +
               subject_words + "\n" + when_words,
           2,
           2,
           with_subject_options({at_option}),
           {"kestrum find wardens heron", "kestrum find wardens '*.csv' --at 2027-03-14"}},
          find};
}

}  // namespace kestrum
