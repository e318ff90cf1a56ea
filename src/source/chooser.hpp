// Decides of each thing that a walk finds whether it is taken, and why.
#pragma once

#include <sys/stat.h>

#include "source/selection.hpp"

namespace kestrum {

// What was decided of a folder, as far as it matters for what is in it.
struct FolderChoice {
  bool whole = true;          // everything in it is wanted; else files of the wanted types
  bool places_below = false;  // another place begins somewhere in it
  bool only_places = false;   // nothing else in it is taken
  std::uint16_t category = 0;
  int rule = SkipRules::no_rule;  // that spoke last of it or of a folder above it
  dev_t device = 0;               // of its place
};

enum class Reason {
  place,       // it is a place
  inside,      // it lies in a place that is taken whole
  type,        // its type is wanted
  taken_back,  // by a rule
  rule,        // left out by it
  larger,
  smaller,
  older,
  newer,
  other_type,        // of no wanted type
  searched,          // a folder that is looked through for wanted types
  hidden_in_search,  // hidden folders are not looked through for types
  mounted,           // another file system: the folder is taken, what is in it is not
  tagged,            // as a cache: the folder is taken, what is in it is not
  destination,
  kernel_view,
};

struct Choice {
  bool taken = false;
  bool enter = false;  // of folders: what is in it is to be asked about
  Reason reason = Reason::inside;
  int rule = SkipRules::no_rule;  // that decided, for Reason::rule and taken_back
  std::uint16_t category = 0;
  FolderChoice inside;  // of folders
};

// Keeps nothing between calls; any number of threads. The selection must outlive it.
class Chooser {
 public:
  explicit Chooser(const Selection& selection) : selection_(selection) {}
  // Of what stands above a source.
  static Choice above_source() {
    Choice choice;
    choice.taken = true;
    return choice;
  }
  // A place that a person named is taken whatever the rules say of it; of a category's standard folder the
  // job's own rules say whether it is. `above`: the rule that spoke last of the folder it is in.
  Choice choose_place(const Place& place, const struct stat& status, int above = SkipRules::no_rule) const;
  // `parent`: of the folder it is in.
  Choice choose(const FolderChoice& parent, const TreePath& path, const struct stat& status) const;

 private:
  void choose_folder(Choice& choice, const FolderChoice& parent, const TreePath& path,
                     const struct stat& status) const;
  void choose_by_type(Choice& choice, const TreePath& path, const struct stat& status) const;
  std::optional<Reason> beyond_limits(const struct stat& status) const;

  const Selection& selection_;
};

// Plain words: "left out by the usual list: .cache/".
std::string choice_text(const Selection& selection, const Choice& choice);

// True for a folder that holds a CACHEDIR.TAG (Cache Directory Tagging Specification 0.6).
bool is_tagged_cache(int folder_fd);

struct Explanation {
  bool taken = false;
  std::string text;  // which rule decided, where along the path
};
// Why that path is taken or left out, as it is on the machine now. Throws Error of kind usage for a path that
// is not absolute or not there.
Explanation explain_choice(const Selection& selection, const std::string& path);

}  // namespace kestrum
