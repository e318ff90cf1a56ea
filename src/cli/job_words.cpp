#include "cli/job_words.hpp"

#include <filesystem>

#include "base/error.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "engine/passphrase_source.hpp"
#include "job/job_keys.hpp"
#include "source/skip_rules.hpp"

namespace kestrum {
namespace {

std::vector<std::string> warnings(const Job& job, const DestinationView& view) {
  std::vector<std::string> out;
  for (const std::string& folder : job.what.folders) {
    if (!std::filesystem::exists(std::filesystem::symlink_status(folder)))
      out.push_back("the source " + printable(folder) + " is not there now");
  }
  if (job.encryption != Encryption::none && job.passphrase != "ask") {
    try {
      const std::optional<SecretText> there = get_passphrase(job.passphrase, "", {});
      if (std::string weakness = there ? weakness_of(*there) : ""; !weakness.empty()) out.push_back(weakness);
    } catch (const Error& error) {
      out.push_back(error.what() + (error.hint().empty() ? std::string() : "; " + error.hint()));
    }
  }
  for (const std::string& file : job.recovery_keys) {
    try {
      read_recovery_public(file);
    } catch (const Error& error) {
      out.push_back(error.what() + (error.hint().empty() ? std::string() : "; " + error.hint()));
    }
  }
  for (const std::string& text : SkipRules(job.what.skip).contradictions()) out.push_back(text);
  out.insert(out.end(), view.notes.begin(), view.notes.end());
  if (!view.trouble.empty()) out.push_back(view.trouble);
  if (!view.shared.empty() && !job.same_disk) out.push_back(view.shared);
  return out;
}

}  // namespace

const OptionSpec usual_option{"usual", "TABLE-KEY", "take this key out, so that the usual holds again", true};

std::vector<OptionSpec> key_options(const FileKeys& keys) {
  std::vector<OptionSpec> options;
  for (const FileKey* key : keys) {
    std::string help = key->help;
    if (key->fallback[0] != '\0') help += std::string(" (usual: ") + key->fallback + ")";
    options.push_back({key->option(), key->value, help, key->list});
  }
  return options;
}

std::vector<KeyChange> key_changes(const Arguments& arguments, const FileKeys& keys) {
  std::vector<KeyChange> changes;
  std::vector<std::string> names;
  for (const FileKey* key : keys) {
    names.push_back(key->option());
    if (arguments.has(key->option())) changes.push_back({key, arguments.values(key->option())});
  }
  for (const std::string& option : arguments.values(usual_option.name)) {
    const FileKey* found = find_option(keys, option);
    if (found == nullptr) {
      const std::optional<std::string> near = nearest(option, names);
      throw Error(ErrorKind::usage, "--usual: there is no key '" + printable(option) + "'",
                  near ? "did you mean " + *near + "?" : "write it like " + names.front());
    }
    if (arguments.has(option))
      throw Error(ErrorKind::usage, "--" + option + " is given, and --usual takes it away",
                  "give one of them");
    changes.push_back({found, std::nullopt});
  }
  return changes;
}

void print_warnings(const Job& job, const DestinationView& view) {
  for (const std::string& text : warnings(job, view)) err("note: {}\n", text);
}

}  // namespace kestrum
