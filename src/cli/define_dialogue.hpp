// `job define NAME` on a terminal: the questions of a new job, in the order in which a technician decides.
#pragma once

#include "archive/recovery_key.hpp"
#include "base/secret_text.hpp"
#include "cli/asker.hpp"
#include "cli/environment.hpp"
#include "engine/selection_count.hpp"
#include "job/job_file.hpp"
#include "store/drive_facts.hpp"

namespace kestrum {

// The answers so far. Nothing is written before the end.
struct JobDraft {
  std::string name;
  JobValues values;
  std::optional<SelectionCount> count;
  std::string new_passphrase;  // for a passphrase file that is not there yet
  std::string new_recovery;    // file of a recovery key to make
  std::string take_public;     // file whose public part is to be kept beside the job; with a new one: its own
};

enum class DefineEnd { save, preview, run };

// Asks everything. Throws Error of kind stopped when the person gives up: nothing was written then.
DefineEnd ask_for_job(JobDraft& draft, const Environment& environment);

// Writes what the answers want besides the job file: a passphrase file, a recovery key, which is given back,
// and its public part beside the job, so that a stick that is taken away stops nothing. Nothing stays when
// one of them cannot be written.
std::optional<RecoveryKey> write_keys(const JobDraft& draft);

// One question each, in order; each may put answers into the draft. Thrown WentBack leads to the one before.
class DefineQuestions {
 public:
  DefineQuestions(JobDraft& draft, const Environment& environment)
      : draft_(draft), environment_(environment), ask_(environment.out_colour()) {}

  using Question = void (DefineQuestions::*)();
  static const std::vector<Question>& in_order();
  DefineEnd end() const { return end_; }
  std::size_t asked() const { return ask_.asked(); }

 private:
  void what();
  void more_folders();
  void leave_out();
  void where();
  void encryption();
  void passphrase();
  void way_back_in();
  void kind();
  void when();
  void keep();
  void around();
  void finish();

  std::vector<std::string>& value(const char* table, const char* key);
  void set(const char* table, const char* key, std::vector<std::string> values);
  void unset(const char* table, const char* key);
  bool is_set(const char* table, const char* key) const;
  bool try_value(const char* table, const char* key, const std::vector<std::string>& values);
  bool encrypted() const;
  WhatToSave chosen() const;
  std::string own_file(const char* ending) const;
  bool strong_enough(const SecretText& passphrase);
  bool good_place_for_secret(const std::string& file);
  void count();
  void show_counts();
  void show_sum(const std::string& head);
  bool take_destination(const std::string& destination);
  // Returns the number of the one that is usual, from 1; 0 for none.
  std::size_t show_drives(std::vector<std::string>& destinations);
  bool fits(const DriveFacts& drive);
  bool means_root();

  JobDraft& draft_;
  const Environment& environment_;
  Asker ask_;
  DefineEnd end_ = DefineEnd::save;
};

}  // namespace kestrum
