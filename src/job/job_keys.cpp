#include "job/job_keys.hpp"

#include <algorithm>
#include <charconv>

#include "base/error.hpp"
#include "base/text.hpp"
#include "source/skip_rules.hpp"

namespace kestrum {
namespace {

[[noreturn]] void refuse(const std::string& message, const std::string& hint) {
  throw Error(ErrorKind::usage, message, hint);
}

// One of several words; the nearest is offered.
std::size_t one_of(const std::string& value, const std::vector<std::string>& words,
                   const std::string& also = {}) {
  auto found = std::find(words.begin(), words.end(), value);
  if (found != words.end()) return static_cast<std::size_t>(found - words.begin());
  std::optional<std::string> near = nearest(value, words);
  refuse("'" + printable(value) + "' is not one of " + join(words, ", ") + also,
         near ? "did you mean '" + *near + "'?" : "write one of them");
}

void set_folders(Job& job, const std::vector<std::string>& values) {
  if (values.empty()) refuse("no folder is named", "name at least one, like [\"/srv/ringing\"]");
  for (const std::string& value : values) {
    if (!value.starts_with('/'))
      refuse("'" + printable(value) + "' is not an absolute path",
             "write it from the root, like /srv/ringing");
    if (!TreePath::parse(value)) refuse("'" + printable(value) + "' holds '..'", "write the folder itself");
  }
  job.folders = values;
}

void set_skip(Job& job, const std::vector<std::string>& values) {
  SkipRules{values};
  job.skip = values;
}

void set_destinations(Job& job, const std::vector<std::string>& values) {
  if (values.size() != 1)
    refuse("a job has one destination at present, not " + std::to_string(values.size()), "name one folder");
  if (!values[0].starts_with('/'))
    refuse("'" + printable(values[0]) + "' is not an absolute path",
           "write it from the root, like /media/tern-1");
  job.destinations = values;
}

void set_runs(Job& job, const std::vector<std::string>& values) {
  job.runs.clear();
  for (const std::string& value : values) job.runs.push_back(parse_phrase(value));
}

void set_if_missed(Job& job, const std::vector<std::string>& values) {
  job.catch_up = one_of(values[0], {"catch up", "skip"}) == 0;
}

void set_kind(Job& job, const std::vector<std::string>& values) {
  one_of(values[0], {"full", "incremental", "differential"});
  job.kind = *parse_kind(values[0]);
}

void set_renew(Job& job, const std::vector<std::string>& values) {
  if (values[0] == "never") {
    job.renew_every_sets.reset();
    return;
  }
  std::vector<std::string> words = split(values[0], ' ');
  unsigned n = 0;
  bool good = words.size() == 3 && words[0] == "every" && (words[2] == "sets" || words[2] == "set");
  if (good) {
    auto [end, code] = std::from_chars(words[1].data(), words[1].data() + words[1].size(), n);
    good = code == std::errc() && end == words[1].data() + words[1].size() && n >= 1 && n <= 100000;
  }
  if (!good)
    refuse("'" + printable(values[0]) + "' does not say when the full set is renewed",
           "write \"every 30 sets\" or \"never\"");
  job.renew_every_sets = n;
}

void set_compression(Job& job, const std::vector<std::string>& values) {
  const std::string& value = values[0];
  if (!value.empty() && value.find_first_not_of("0123456789") == std::string::npos) {
    int level = value.size() > 3 ? 0 : std::stoi(value);
    if (level < 1 || level > 19)
      refuse("compression " + value + " is not between 1 and 19",
             "write fast, normal, small or a number from 1 to 19");
    job.level = level;
  } else {
    // zstd 1, 3 and 12: beyond 12 a level costs several times the time for a few percent.
    constexpr int levels[] = {1, 3, 12};
    job.level = levels[one_of(value, {"fast", "normal", "small"}, " or a number from 1 to 19")];
  }
  job.compression = value;
}

void set_volume_size(Job& job, const std::vector<std::string>& values) {
  std::optional<std::uint64_t> size = parse_size(values[0]);
  if (!size)
    refuse("'" + printable(values[0]) + "' is not a size with a unit",
           "write it like \"1 GiB\" or \"650 MiB\"");
  if (*size < (64u << 10) || *size > (std::uint64_t{1} << 40))
    refuse("a volume size of " + size_text(*size) + " is not between 64 KiB and 1 TiB",
           "the usual size is \"1 GiB\"");
  job.volume_bytes = *size;
}

void set_encryption(Job& job, const std::vector<std::string>& values) {
  job.encryption =
      one_of(values[0], {"aes-256-gcm", "none"}) == 0 ? Encryption::aes_256_gcm : Encryption::none;
}

void set_passphrase(Job& job, const std::vector<std::string>& values) {
  const std::string& value = values[0];
  bool good = value == "ask" || (value.starts_with("file:/") && value.size() > 6);
  if (!good) {
    refuse(value.starts_with("file:") ? "the passphrase file must be named by its absolute path"
                                      : "this does not say where the passphrase comes from",
           "write \"file:/etc/kestrum/NAME.pass\", or \"ask\"; never the passphrase itself");
  }
  job.passphrase = value;
}

void set_recovery_key(Job& job, const std::vector<std::string>& values) {
  if (!values[0].starts_with('/'))
    refuse("the recovery key's public part must be named by its absolute path",
           "write it like /etc/kestrum/office.pub; make one with: kestrum recovery create FILE");
  job.recovery_key = values[0];
}

void set_after_run(Job& job, const std::vector<std::string>& values) {
  job.read_back = one_of(values[0], {"read back", "nothing"}) == 0;
}

constexpr JobKey keys[] = {
    {"what", "folders", true, true, "FOLDER", "", "folders and files to save", set_folders},
    {"what", "skip", true, false, "PATTERN", "nothing",
     "leave these out: names (*.part), folders (scratch/), paths", set_skip},
    {"where", "destinations", true, true, "FOLDER", "",
     "folder on another drive, under which the sets are kept", set_destinations},
    {"when", "runs", true, false, "PHRASE", "by hand",
     "when it runs: \"weekdays at 12:30\", \"first sunday at 03:00 full\", \"every 20 minutes\" ...",
     set_runs},
    {"when", "if-missed", false, false, "WHAT", "catch up",
     "what a run that was missed means: \"catch up\" at the next chance, or skip", set_if_missed},
    {"how", "kind", false, false, "KIND", "incremental", "full, incremental or differential", set_kind},
    {"how", "renew", false, false, "WHEN", "every 30 sets",
     "when a new full set is due: \"every N sets\" or never", set_renew},
    {"how", "compression", false, false, "STRENGTH", "normal",
     "fast, normal, small, or a number from 1 to 19", set_compression},
    {"how", "volume-size", false, false, "SIZE", "1 GiB", "largest size of one data file", set_volume_size},
    {"protect", "encryption", false, false, "METHOD", "aes-256-gcm", "aes-256-gcm or none", set_encryption},
    {"protect", "passphrase", false, false, "SOURCE", "ask", "file:/path, or ask on the terminal",
     set_passphrase},
    {"protect", "recovery-key", false, false, "FILE", "none",
     "public part of a recovery key, which opens the sets too", set_recovery_key},
    {"check", "after-run", false, false, "WHAT", "read back", "\"read back\" what was written, or nothing",
     set_after_run},
};

}  // namespace

std::span<const JobKey> job_keys() {
  return keys;
}

const JobKey* find_job_key(const std::string& table, const std::string& key) {
  for (const JobKey& entry : keys) {
    if (table == entry.table && key == entry.key) return &entry;
  }
  return nullptr;
}

std::vector<std::string> job_tables() {
  std::vector<std::string> tables;
  for (const JobKey& entry : keys) {
    if (tables.empty() || tables.back() != entry.table) tables.emplace_back(entry.table);
  }
  return tables;
}

void check_job(const Job& job) {
  for (const JobKey& key : keys) {
    bool missing = key.required && ((std::string(key.table) == "what" && job.folders.empty()) ||
                                    (std::string(key.table) == "where" && job.destinations.empty()));
    if (missing) {
      refuse("the job '" + printable(job.name) + "' does not say [" + key.table + "] " + key.key + " (" +
                 key.help + ")",
             std::string("give --") + key.option() + " " + key.value + ", or write it in the job file");
    }
  }
}

void check_job_name(const std::string& name) {
  std::string why;
  if (name.empty()) why = "is empty";
  if (name.size() > 100) why = "is longer than 100 bytes";
  if (name.find('/') != std::string::npos) why = "holds a '/'";
  if (name.starts_with('.') || name.starts_with('-')) why = "starts with '" + name.substr(0, 1) + "'";
  if (printable(name) != name) why = "holds characters that cannot be shown";
  if (!why.empty())
    refuse("'" + printable(name) + "' cannot be a job's name: it " + why, "use letters, digits, '-' and '_'");
}

}  // namespace kestrum
