// suggest: what could stand at the end of a command line. For the completion scripts; not shown in the help.
#include <algorithm>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/help_topics.hpp"
#include "cli/print.hpp"
#include "cli/verbs.hpp"
#include "engine/look.hpp"
#include "job/categories.hpp"
#include "job/job_keys.hpp"
#include "job/presets.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {
namespace {

class Suggestion {
 public:
  // `words`: those typed so far, the last one the one to be completed, perhaps empty.
  Suggestion(std::vector<std::string> words, const Environment& environment)
      : environment_(environment), partial_(words.back()), words_(std::move(words)) {
    words_.pop_back();
  }

  std::vector<std::string> find() {
    std::vector<Verb> verbs = all_verbs();
    // The longest that fits; "agent" may go on as "agent install".
    const Verb* found = nullptr;
    std::size_t used = 0;
    for (const Verb& verb : verbs) {
      const std::vector<std::string> name = split(verb.spec.name, ' ');
      if (words_.size() < name.size() && name.size() == words_.size() + 1 && !words_.empty() &&
          std::equal(words_.begin(), words_.end(), name.begin()))
        add(name.back());
      if (words_.size() < name.size() || !std::equal(name.begin(), name.end(), words_.begin())) continue;
      if (found != nullptr && name.size() < used) continue;
      found = &verb;
      used = name.size();
    }
    if (found != nullptr) {
      of_settings_ = words_[0] == "settings";
      words_.erase(words_.begin(), words_.begin() + static_cast<std::ptrdiff_t>(used));
      in_verb(found->spec);
      return chosen();
    }
    bool help = !words_.empty() && words_[0] == "help";
    std::size_t place = words_.size() - (help ? 1 : 0);
    for (const Verb& verb : verbs) {
      std::vector<std::string> name = split(verb.spec.name, ' ');
      bool fits =
          place < name.size() && std::equal(name.begin(), name.begin() + static_cast<std::ptrdiff_t>(place),
                                            words_.begin() + (help ? 1 : 0));
      if (fits) add(name[place]);
    }
    if (place == 0) {
      if (help) add_all(help_topics());
      if (!help) add("help");
    }
    return chosen();
  }

 private:
  void add(std::string text) { all_.push_back(std::move(text)); }
  void add_all(const std::vector<std::string>& more) { all_.insert(all_.end(), more.begin(), more.end()); }
  std::vector<std::string> chosen() {
    std::erase_if(all_, [&](const std::string& text) { return !text.starts_with(partial_); });
    std::sort(all_.begin(), all_.end());
    all_.erase(std::unique(all_.begin(), all_.end()), all_.end());
    return std::move(all_);
  }

  void in_verb(const VerbSpec& spec) {
    std::vector<std::string> given;  // words that are no options and no values of them
    const OptionSpec* open = nullptr;
    for (const std::string& word : words_) {
      if (open != nullptr) {
        if (open->name == "at") at_ = word;
        if (open->name == "passphrase") options_.passphrase = word;
        if (open->name == "recovery-key" && word != "ask") options_.recovery_key = read_recovery_secret(word);
        if (open->name == "machine") options_.machine = word;
        if (open->name == "job") options_.job = word;
        open = nullptr;
      } else if (word.starts_with("--")) {
        for (const OptionSpec& option : spec.options) {
          if ("--" + option.name == word && !option.value.empty()) open = &option;
        }
      } else {
        given.push_back(word);
      }
    }
    if (open != nullptr) return value_of(*open, given);
    if (partial_.starts_with("-")) {
      for (const OptionSpec& option : spec.options) add("--" + option.name);
      return;
    }
    std::vector<std::string> places = split(spec.words, ' ');
    bool several = !places.empty() && places.back().find("...") != std::string::npos;
    std::size_t place = several ? std::min(given.size(), places.size() - 1) : given.size();
    if (place >= places.size()) return;
    std::string what = places[place];
    if (what.starts_with('[')) what.erase(0, 1);  // it may be left out
    if (what.starts_with("SUBJECT") || what.starts_with("JOB") || what.starts_with("NAME")) {
      if (spec.name != "job define") add_all(environment_.home().job_names());
    } else if (what.find("PATH") != std::string::npos && !given.empty()) {
      paths_in(given[0]);
    }
  }

  void value_of(const OptionSpec& option, const std::vector<std::string>& given) {
    const std::string& name = option.name;
    if (name == "at" && !given.empty()) return points_of(given[0]);
    if (!option.choices.empty()) return add_all(option.choices);
    if (name == "what-categories") return add_all(category_names());
    if (name == "what-people") {
      add_all({"me", "everybody"});
      for (const Account& account : environment_.people().everybody) add(account.name);
    }
    if (name == "preset") {
      for (const Preset& preset : presets()) add(preset.name);
    }
    if (name == "usual") {
      for (const FileKey* key : of_settings_ ? settings_file_keys() : job_file_keys()) add(key->option());
    }
    if (name == "where-destinations") {
      for (const DriveFacts& drive : possible_drives()) {
        if (!drive.label.empty()) add("label:" + drive.label);
      }
    }
  }

  LookSession open(const std::string& name) {
    options_.subject = name;  // nobody is asked for a passphrase in the middle of a word
    return LookSession::open(&environment_.home(), options_);
  }

  void points_of(const std::string& name) {
    LookSession subject = open(name);
    for (const PointInfo& point : list_points(subject, nullptr).points) {
      if (point.sealed) add(std::to_string(point.sequence));
    }
    add_all({"latest", "yesterday"});
  }

  void paths_in(const std::string& name) {
    std::size_t slash = partial_.rfind('/');
    if (slash == std::string::npos) return add("/");
    std::string above = partial_.substr(0, slash + 1);
    std::optional<TreePath> folder = TreePath::parse(above);
    LookSession subject = open(name);
    std::optional<PointWish> wish =
        parse_point_wish(at_.empty() ? "latest" : at_, environment_.clock().now());
    if (!folder || !wish) return;
    OpenPoint point(subject, *wish);
    for (const auto& [entry, below] : browse(point, *folder).children)
      add(above + std::string(entry.path.name()) + (entry.type == EntryType::folder ? "/" : ""));
  }

  const Environment& environment_;
  std::string partial_;
  std::vector<std::string> words_;
  SubjectOptions options_;
  std::string at_;
  bool of_settings_ = false;  // the verb
  std::vector<std::string> all_;
};

// Whatever is wrong, there is nothing to suggest then, and nothing to say in the middle of somebody's typing.
int suggest(const Arguments& arguments, const Environment& environment) {
  try {
    std::vector<std::string> words = arguments.words();
    if (words.empty()) words.emplace_back();
    for (const std::string& text : Suggestion(words, environment).find()) {
      if (text.find('\n') == std::string::npos) out_lines("{}\n", text);
    }
  } catch (const Error&) {
  }
  return exit_done;
}

}  // namespace

Verb suggest_verb() {
  return {{"suggest", "WORD...", "what could stand at the end of a command line", "", 0, 1000, {}, {}},
          suggest};
}

}  // namespace kestrum
