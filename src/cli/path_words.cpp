#include "cli/path_words.hpp"

#include <algorithm>
#include <filesystem>

#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "cli/progress.hpp"

namespace kestrum {
namespace {

void add_reading(std::vector<TreePath>& readings, const std::string& text) {
  namespace fs = std::filesystem;
  auto add = [&](const std::string& absolute) {
    std::optional<TreePath> path = TreePath::parse(absolute);
    if (path && std::find(readings.begin(), readings.end(), *path) == readings.end())
      readings.push_back(*path);
  };
  if (text.starts_with('/')) return add(text);
  std::error_code code;
  const fs::path here = fs::current_path(code);
  if (!code) add((here / text).lexically_normal().string());
  add("/" + text);
}

}  // namespace

WantedPath wanted_path(const std::string& text) {
  std::vector<TreePath> readings;
  if (!text.empty()) add_reading(readings, text);
  if (text.find('\\') != std::string::npos) add_reading(readings, from_printable(text));
  if (readings.empty())
    throw Error(ErrorKind::usage, "'" + printable(text) + "' is no path inside a point",
                "write it from the root, like /srv/ringing, without '..', or from where you stand");
  return WantedPath(std::move(readings));
}

std::string command_for(const std::string& verb, const Arguments& arguments, const TreePath& path) {
  std::string command = "kestrum " + verb + " " + shell_word(printable(arguments.words().at(0))) + " " +
                        shell_word(printable(path.absolute()));
  for (const char* option : {"machine", "job", "passphrase", "recovery-key"}) {
    if (std::optional<std::string> value = arguments.value(option))
      command += std::string(" --") + option + " " + shell_word(printable(*value));
  }
  return command;
}

std::string shell_command(const std::string& verb, const std::vector<std::string>& words) {
  std::string command = "kestrum " + verb;
  for (const std::string& word : words) command += " " + shell_word(word);
  return command;
}

std::string last_seen_text(const LastSeen& seen, const std::string& drive) {
  return "it was last in point " + drive + point_text(seen.point) +
         (seen.without ? ", and is gone since " + weekday_text(seen.without->started) + " " +
                             day_text(seen.without->started)
                       : "");
}

Error say_where_last(const NoSuchPath& missing, ChosenPoint& chosen, const Arguments& arguments,
                     const std::string& verb) {
  for (const TreePath& path : missing.readings()) {
    std::optional<LastSeen> seen = last_seen(chosen.subjects, path);
    if (!seen) continue;
    move_to(chosen, *seen);
    return Error(ErrorKind::usage, missing.what(),
                 last_seen_text(*seen, chosen.drive) + "\n  " + command_for(verb, arguments, path) +
                     " --at " + shell_word(chosen.drive + std::to_string(seen->point.sequence)) +
                     (verb == "restore" ? " --to ." : ""));
  }
  // In the point itself, else in any.
  if (!missing.hint().empty()) return missing;
  constexpr std::size_t most_named = 3;
  std::vector<std::string> near;
  for (const TreePath& path :
       nearest_paths(chosen.subjects, missing.readings().at(0), most_named, process_control()))
    near.push_back(printable(path.absolute()));
  if (!near.empty())
    return Error(ErrorKind::usage, missing.what(),
                 "did you mean, of another point, " + join(near, " or ") + "?");
  const std::string name(missing.readings().at(0).name());
  return Error(ErrorKind::usage, missing.what(),
               "look for a part of its name: kestrum find " + shell_word(printable(arguments.words()[0])) +
                   " " + shell_word(printable(name)));
}

}  // namespace kestrum
