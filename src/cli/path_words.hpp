// Paths inside a point, and commands to copy, between the command line and the engine.
#pragma once

#include "cli/verbs.hpp"
#include "engine/version_search.hpp"

namespace kestrum {

// From the root, or from where one stands; as it stands, or as `printable` shows it. Throws usage for what is
// no path.
WantedPath wanted_path(const std::string& text);

// "kestrum VERB SUBJECT PATH", with the options that open the same sets, ready to be copied into a shell;
// more may be put behind it.
std::string command_for(const std::string& verb, const Arguments& arguments, const TreePath& path);

// "kestrum VERB WORDS", ready to be copied into a shell.
std::string shell_command(const std::string& verb, const std::vector<std::string>& words);

// Where a path that is not in the point was last, in words: "it was last in point 5 (...), gone since ...".
std::string last_seen_text(const LastSeen& seen, const std::string& drive);
// The error with that, and with the command that looks there; the same error when no point has it.
Error say_where_last(const NoSuchPath& missing, ChosenPoint& chosen, const Arguments& arguments,
                     const std::string& verb);

}  // namespace kestrum
