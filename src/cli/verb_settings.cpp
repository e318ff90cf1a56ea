// settings show, check, set.
#include <sys/stat.h>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/job_words.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "engine/passphrase_source.hpp"
#include "tell/mail_way.hpp"
#include "tell/settings_documents.hpp"

namespace kestrum {
namespace {

void print_settings(const Settings& settings) {
  out("{}{}\n\n", printable(settings.file),
      settings.given.empty() ? ": nothing is set, the usual holds" : "");
  using enum Table::Align;
  Table table(
      {{"KEY", left}, {.heading = "VALUE", .may_break = true}, {.heading = "USUAL", .may_break = true}});
  for (const SettingsKey& key : settings_keys()) {
    const auto given = settings.given.find({key.table, key.key});
    table.row({std::string("[") + key.table + "] " + key.key,
               given == settings.given.end() ? "" : printable(join(given->second, ", ")), key.fallback});
  }
  print(table, "");
}

int show(const Arguments& arguments, const Environment& environment) {
  const Settings settings = environment.home().load_settings();
  if (arguments.has("json")) {
    print_document(settings_document(settings));
  } else {
    print_settings(settings);
  }
  return exit_done;
}

// What can be wrong with settings that read.
class Check {
 public:
  Check(const Settings& settings, const Environment& environment)
      : settings_(settings), environment_(environment) {}

  std::vector<SettingsCheck> all(bool reach_server) {
    add("the file", [&] { return what_is_said(); });
    if (settings_.mail.server.empty()) return std::move(checks_);
    if (!settings_.mail.password.empty()) {
      add("the password", [&] {
        secret_line(settings_.mail.password, "password");
        return "is in " + printable(settings_.mail.password.substr(5));
      });
    }
    if (reach_server && worst_ == exit_done) {
      add("the mail server", [&] {
        const MailWay way(settings_.mail, environment_.machine(), process_control());
        const std::string said = way.try_out().said;
        return printable(settings_.mail.server) + " takes us" + (said.empty() ? "" : ": " + said);
      });
    }
    return std::move(checks_);
  }
  int worst() const { return worst_; }
  const std::vector<std::string>& words() const { return words_; }

 private:
  std::string what_is_said() const {
    if (settings_.text.empty()) return printable(settings_.file) + " is not there: the usual holds";
    struct stat status {};
    const bool open = stat(settings_.file.c_str(), &status) == 0 && (status.st_mode & S_IROTH) != 0;
    return printable(settings_.file) + " reads" +
           (open ? "; everybody on this machine can read it too: chmod 600 " + printable(settings_.file)
                 : "");
  }

  template <typename F>
  void add(const char* what, F&& look) {
    SettingsCheck check{what, {}};
    try {
      words_.push_back(std::string(what) + ": " + look());
    } catch (const Error& error) {
      check.trouble = error.what();
      words_.push_back(std::string(what) + ": " + error.what() +
                       (error.hint().empty() ? "" : "\n  " + error.hint()));
      worst_ = worse_exit(worst_, exit_code_of(error.kind()));
    }
    checks_.push_back(std::move(check));
  }

  const Settings& settings_;
  const Environment& environment_;
  std::vector<SettingsCheck> checks_;
  std::vector<std::string> words_;
  int worst_ = exit_done;
};

int check(const Arguments& arguments, const Environment& environment) {
  Settings settings;
  if (arguments.words().empty()) {
    settings = environment.home().load_settings();
  } else {
    const std::string& path = arguments.words()[0];
    const Bytes text = read_small_file(path, 1u << 20);
    settings = parse_settings(path, std::string(as_text(text)));
  }
  Check look(settings, environment);
  const std::vector<SettingsCheck> checks = look.all(!arguments.has("no-server"));
  if (arguments.has("json")) {
    print_document(settings_check_document(settings, checks));
  } else {
    for (const std::string& line : look.words()) out("{}\n", line);
  }
  return look.worst();
}

int set(const Arguments& arguments, const Environment& environment) {
  const std::vector<KeyChange> changes = key_changes(arguments, settings_file_keys());
  if (changes.empty())
    throw Error(ErrorKind::usage, "'settings set' needs to be told what to set",
                "for instance: kestrum settings set --mail-server mail.skerrypoint.example");
  const Home& home = environment.home();
  // One that does not read is mended by hand.
  const Settings before = home.load_settings();
  const std::string text = edit_settings_text(before.file, before.text, changes);
  if (text != before.text) home.change_settings(before.text, text);
  const Settings after = home.load_settings();
  if (arguments.has("json")) {
    print_document(settings_document(after));
  } else if (text == before.text) {
    out("Nothing was changed in {}.\n", printable(after.file));
  } else {
    print_settings(after);
  }
  return exit_done;
}

}  // namespace

Verb settings_show_verb() {
  return {{"settings show",
           "",
           "what holds for this machine: mail, runs, logs",
           "",
           0,
           0,
           {json_option},
           {"kestrum settings show"}},
          show};
}
Verb settings_check_verb() {
  return {{"settings check",
           "[FILE]",
           "check the settings, and whether the mail server takes us",
           "Without FILE those of this machine. The server is asked and logged in to; no mail is sent.",
           0,
           1,
           {{"no-server", "", "do not ask the mail server"}, json_option},
           {"kestrum settings check", "kestrum settings check settings.toml --no-server"}},
          check};
}
Verb settings_set_verb() {
  VerbSpec spec{"settings set", "", "change settings", "", 0, 0, key_options(settings_file_keys()), {}};
  spec.options.push_back(usual_option);
  spec.options.push_back(json_option);
  spec.details =
      "Just those keys are changed where they stand; comments and order of the file stay as they are. They "
      "count from then on, also for an agent that is running.";
  spec.examples = {
      "kestrum settings set --mail-server mail.skerrypoint.example --mail-to office@skerrypoint.example",
      "kestrum settings set --usual logs-number"};
  return {spec, set};
}

}  // namespace kestrum
