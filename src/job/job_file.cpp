#include "job/job_file.hpp"

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/job_keys.hpp"
#include "job/toml_text.hpp"

namespace kestrum {

Job parse_job(const std::string& name, const std::string& file, const std::string& text) {
  check_job_name(name);
  Job job;
  job.name = name;
  job.file = file;
  job.text = text;
  job.given = read_key_file(file, text, job_file_keys(), [&](const FileKey& key, const KeyValues& values) {
    static_cast<const JobKey&>(key).set(job, values);
  });
  try {
    check_job(job);
  } catch (const Error& error) {
    throw Error(ErrorKind::usage, printable(file) + ": " + error.what(), error.hint());
  }
  return job;
}

std::string job_text(const std::string& name, const JobValues& values) {
  Job job;
  job.name = name;
  check_job_name(name);
  std::string text = "# " + name + "\n";
  std::string table;
  for (const JobKey& key : job_keys()) {
    auto given = values.find({key.table, key.key});
    if (given == values.end()) continue;
    check_writable(key, given->second);
    try {
      key.set(job, given->second);
    } catch (const Error& error) {
      throw Error(ErrorKind::usage, "--" + key.option() + ": " + error.what(), error.hint());
    }
    if (table != key.table) {
      table = key.table;
      text += "[" + table + "]\n";
    }
    text += std::string(key.key) + " = " + toml_value(key, given->second) + "\n";
  }
  check_job(job);
  return text;
}

std::string define_command(const std::string& name, const JobValues& values) {
  std::string command = "kestrum job define " + shell_word(name);
  std::string table;
  std::size_t line = 0;  // columns of the last one
  for (const JobKey& key : job_keys()) {
    auto given = values.find({key.table, key.key});
    if (given == values.end()) continue;
    for (const std::string& value : given->second) {
      std::string option = " --" + key.option() + " " + shell_word(value);
      constexpr std::size_t widest = 96;
      if (table != key.table || line + option.size() > widest) {
        command += " \\\n   ";
        line = 3;
      }
      table = key.table;
      command += option;
      line += option.size();
    }
  }
  return command;
}

}  // namespace kestrum
