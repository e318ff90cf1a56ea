#include "cli/define_dialogue.hpp"

#include <unistd.h>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "engine/agent_seat.hpp"
#include "engine/passphrase_source.hpp"
#include "job/job_keys.hpp"
#include "job/toml_text.hpp"
#include "tell/job_summary.hpp"

namespace kestrum {

const std::vector<DefineQuestions::Question>& DefineQuestions::in_order() {
  static const std::vector<Question> all{
      &DefineQuestions::what,        &DefineQuestions::more_folders, &DefineQuestions::leave_out,
      &DefineQuestions::where,       &DefineQuestions::encryption,   &DefineQuestions::passphrase,
      &DefineQuestions::way_back_in, &DefineQuestions::kind,         &DefineQuestions::when,
      &DefineQuestions::keep,        &DefineQuestions::around,       &DefineQuestions::finish};
  return all;
}

DefineEnd ask_for_job(JobDraft& draft, const Environment& environment) {
  DefineQuestions questions(draft, environment);
  out("A new job, {}. ? explains a question, < goes back, Ctrl-C gives up; nothing is saved before the "
      "end.\n",
      printable(draft.name));
  const std::vector<DefineQuestions::Question>& all = DefineQuestions::in_order();
  // What was asked, with the answers before it; questions that had nothing to ask are not among them.
  std::vector<std::pair<std::size_t, JobDraft>> asked;
  for (std::size_t at = 0; at < all.size();) {
    JobDraft before = draft;
    std::size_t count = questions.asked();
    try {
      (questions.*all[at])();
      if (questions.asked() > count) asked.emplace_back(at, std::move(before));
      ++at;
    } catch (const WentBack&) {
      if (asked.empty()) {
        draft = std::move(before);
        out("  This is the first question.\n");
      } else {
        std::tie(at, draft) = std::move(asked.back());
        asked.pop_back();
      }
    }
  }
  return questions.end();
}

std::optional<RecoveryKey> write_keys(const JobDraft& draft) {
  std::vector<std::string> made;
  auto make = [&](const std::string& file, ByteView content, mode_t mode) {
    create_file(file, content, mode);
    made.push_back(file);
  };
  std::optional<RecoveryKey> key;
  try {
    if (!draft.new_passphrase.empty())
      make(draft.values.at({"protect", "passphrase"}).at(0).substr(5), as_bytes(draft.new_passphrase + "\n"),
           0600);
    if (!draft.new_recovery.empty()) {
      key = write_recovery_files(draft.new_recovery);
      made.insert(made.end(), {draft.new_recovery, draft.new_recovery + ".pub"});
    }
    if (!draft.take_public.empty())
      make(draft.values.at({"protect", "recovery-key"}).at(0),
           as_bytes(recovery_public_text(read_recovery_public(draft.take_public))), 0644);
  } catch (...) {
    for (const std::string& file : made) unlink(file.c_str());
    throw;
  }
  return key;
}

std::vector<std::string>& DefineQuestions::value(const char* table, const char* key) {
  return draft_.values[{table, key}];
}
void DefineQuestions::set(const char* table, const char* key, std::vector<std::string> values) {
  draft_.values[{table, key}] = std::move(values);
}
void DefineQuestions::unset(const char* table, const char* key) {
  draft_.values.erase({table, key});
}
bool DefineQuestions::is_set(const char* table, const char* key) const {
  return draft_.values.contains({table, key});
}
bool DefineQuestions::encrypted() const {
  auto found = draft_.values.find({"protect", "encryption"});
  return found == draft_.values.end() || found->second.at(0) != "none";
}

// Says what is wrong with the answer, and false, so that it is asked again.
bool DefineQuestions::try_value(const char* table, const char* key, const std::vector<std::string>& values) {
  Job scratch;
  try {
    check_writable(*find_job_key(table, key), values);
    find_job_key(table, key)->set(scratch, values);
  } catch (const Error& error) {
    out("  {}\n  {}\n", error.what(), error.hint());
    return false;
  }
  set(table, key, values);
  return true;
}

WhatToSave DefineQuestions::chosen() const {
  Job scratch;
  for (const JobKey& key : job_keys()) {
    auto given = draft_.values.find({key.table, key.key});
    if (std::string(key.table) == "what" && given != draft_.values.end()) key.set(scratch, given->second);
  }
  return scratch.what;
}

void DefineQuestions::finish() {
  std::string text = job_text(draft_.name, draft_.values);
  Job job = parse_job(draft_.name, environment_.home().job_path(draft_.name), text);
  ask_.heading("The job as it would be saved");
  out("{}", job_summary(job, environment_.clock().now(), agent_here(environment_.home()).has_value()));
  if (draft_.count) {
    out("  {:<13}{} in {} now; a full set takes at most that, and the drive should hold two: {}\n", "Space",
        size_text(draft_.count->all.bytes), count_text(draft_.count->all.files, "file"),
        size_text(2 * draft_.count->all.bytes));
  }
  out("\nThe same without questions:\n");
  if (!draft_.new_recovery.empty())
    out("  kestrum recovery create {}\n", shell_word(printable(draft_.new_recovery)));
  if (!draft_.take_public.empty())
    out("  cp {} {}\n", shell_word(printable(draft_.take_public)),
        shell_word(printable(value("protect", "recovery-key").at(0))));
  out("  {}\n\n", define_command(draft_.name, draft_.values));
  std::size_t choice = ask_.choose(
      "What now", {"save it", "save it, and preview what a run would copy", "save it, and run it now"}, 0,
      "  Nothing is saved yet. A preview writes nothing to the drive.");
  end_ = choice == 0 ? DefineEnd::save : choice == 1 ? DefineEnd::preview : DefineEnd::run;
}

}  // namespace kestrum
