#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <string_view>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "source/chooser.hpp"
#include "source/filesystem_table.hpp"

namespace kestrum {
namespace {

std::string rule_text(const SkipRules& rules, int rule) {
  const SkipRules::Source& source = rules.source(rule);
  switch (source.origin) {
    case SkipRules::Origin::usual_list:
      return "the usual list, '" + printable(source.shown()) + "'";
    case SkipRules::Origin::hidden_names:
      return "[what] hidden: its name begins with a dot";
    case SkipRules::Origin::job:
      break;
  }
  return "[what] skip, '" + printable(source.shown()) + "'";
}

bool is_excluded(const Selection& selection, const struct stat& status) {
  FolderIdentity identity{status.st_dev, status.st_ino};
  return S_ISDIR(status.st_mode) && std::find(selection.excluded.begin(), selection.excluded.end(),
                                              identity) != selection.excluded.end();
}

// Follows the walk's steps from the place down to the path.
class Descent {
 public:
  Descent(const Selection& selection, const TreePath& path)
      : selection_(selection), chooser_(selection), path_(path) {}

  Explanation explain() {
    const Place* place = nullptr;
    for (const TreePath& source : selection_.sources) {
      if (path_.is_within(source)) place = selection_.place_at(source);
    }
    if (place == nullptr) return {false, "left out: it lies in no folder that the job saves"};
    struct stat status = look_at(place->path);
    Choice choice = chooser_.choose_place(*place, status);
    TreePath at = place->path;
    for (const std::string& name : path_.below(place->path).components()) {
      if (std::optional<Explanation> shut = closed(at, status, choice)) return *shut;
      at = at.child(name);
      status = look_at(at);
      choice = chooser_.choose(choice.inside, at, status);
      // What a rule says of a folder holds for what is below it, so the folder is worth naming.
      if (choice.rule != SkipRules::no_rule && choice.rule != decided_) {
        decided_ = choice.rule;
        decided_at_ = at;
      }
    }
    if (is_excluded(selection_, status)) {
      choice.taken = false;
      choice.reason = Reason::destination;
    }
    std::string text = choice_text(selection_, choice);
    bool by_rule = choice.reason == Reason::rule || choice.reason == Reason::taken_back;
    if (by_rule && decided_at_ != path_) text += ", which speaks of " + printable(decided_at_.absolute());
    return {choice.taken, text};
  }

 private:
  struct stat look_at(const TreePath& path) const {
    struct stat status {};
    if (lstat(path.absolute().c_str(), &status) != 0) {
      throw Error(ErrorKind::usage, "there is no " + printable(path.absolute()) + ": " + system_reason(errno),
                  "name something that is on this machine now");
    }
    return status;
  }
  // When the walk would not go into that folder.
  std::optional<Explanation> closed(const TreePath& at, const struct stat& status, Choice choice) const {
    std::string where = ", so nothing in " + printable(at.absolute()) + " is looked at";
    if (is_excluded(selection_, status)) {
      choice.reason = Reason::destination;
    } else {
      FileHandle folder(open(at.absolute().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW));
      if (folder && identify_filesystem(status.st_dev, folder.get()).is_kernel_view()) {
        choice.reason = Reason::kernel_view;
      } else if (folder && !selection_.tagged_caches && !choice.inside.places_below &&
                 choice.reason != Reason::place && is_tagged_cache(folder.get())) {
        choice.reason = Reason::tagged;
      } else if (choice.enter) {
        return std::nullopt;
      }
    }
    choice.taken = false;
    return Explanation{false, choice_text(selection_, choice) + where};
  }

  const Selection& selection_;
  Chooser chooser_;
  TreePath path_;
  int decided_ = SkipRules::no_rule;
  TreePath decided_at_;
};

}  // namespace

std::string choice_text(const Selection& selection, const Choice& choice) {
  const SelectionLimits& limits = selection.limits;
  switch (choice.reason) {
    case Reason::place:
      return choice.category == 0
                 ? "taken: it is named in [what] folders"
                 : "taken: a standard folder of the category " + selection.categories.at(choice.category);
    case Reason::inside:
      return choice.category == 0 ? std::string("taken: it lies in a folder that is named in [what] folders")
                                  : "taken: it lies in a standard folder of the category " +
                                        selection.categories.at(choice.category);
    case Reason::type:
      return "taken: a file of a type of the category " + selection.categories.at(choice.category);
    case Reason::taken_back:
      return "taken: by " + rule_text(selection.skip, choice.rule);
    case Reason::rule:
      return "left out: by " + rule_text(selection.skip, choice.rule);
    case Reason::larger:
      return "left out: by [what] skip-larger, it is larger than " + size_text(*limits.largest);
    case Reason::smaller:
      return "left out: by [what] skip-smaller, it is smaller than " + size_text(*limits.smallest);
    case Reason::older:
      return "left out: by [what] skip-older, it was last changed before that";
    case Reason::newer:
      return "left out: by [what] skip-newer, it was changed since";
    case Reason::other_type:
      return "left out: a file of no type of the chosen categories, in no standard folder of theirs";
    case Reason::searched:
      return "searched: a folder that is looked through for files of the chosen categories";
    case Reason::hidden_in_search:
      return "left out: hidden folders are not looked through for files of the chosen categories";
    case Reason::mounted:
      return "the folder only: by [what] mounted-below, another file system begins here";
    case Reason::tagged:
      return "the folder only: by [what] cache-tags, its CACHEDIR.TAG says that it can be made again";
    case Reason::destination:
      return "left out: it is the job's own destination";
    case Reason::kernel_view:
      return "left out: it is the kernel's own view, not on any disk";
  }
  return {};
}

bool is_tagged_cache(int folder_fd) {
  constexpr std::string_view signature = "Signature: 8a477f597d28d172789f06886806bc55";
  FileHandle tag(openat(folder_fd, "CACHEDIR.TAG", O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC));
  char buffer[signature.size()];
  return tag && read_full(tag.get(), buffer, sizeof buffer, 0) == static_cast<ssize_t>(sizeof buffer) &&
         std::string_view(buffer, sizeof buffer) == signature;
}

Explanation explain_choice(const Selection& selection, const std::string& path) {
  std::optional<TreePath> wanted = path.starts_with('/') ? TreePath::parse(path) : std::nullopt;
  if (!wanted)
    throw Error(ErrorKind::usage, "'" + printable(path) + "' is not an absolute path",
                "write it from the root, like /srv/ringing/2027.csv");
  return Descent(selection, *wanted).explain();
}

}  // namespace kestrum
