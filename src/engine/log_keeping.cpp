#include "engine/log_keeping.hpp"

#include <sys/stat.h>

#include <algorithm>
#include <ctime>
#include <filesystem>
#include <map>

#include "base/error.hpp"

namespace kestrum {
namespace {

struct Log {
  std::int64_t changed = 0;
  std::vector<std::string> files;  // itself, and the steps of a run that was cut off
};

// By the name without its endings.
std::map<std::string, Log> logs_in(const std::filesystem::path& folder) {
  std::map<std::string, Log> logs;
  std::error_code code;
  for (std::filesystem::directory_iterator one(folder, code), end; !code && one != end; one.increment(code)) {
    const std::string name = one->path().filename();
    const std::size_t ending = name.find(".log");
    if (!name.starts_with("run-") || ending == std::string::npos) continue;
    struct stat status {};
    if (lstat(one->path().c_str(), &status) != 0 || !S_ISREG(status.st_mode)) continue;
    Log& log = logs[name.substr(0, ending)];
    log.changed = std::max<std::int64_t>(log.changed, status.st_mtim.tv_sec);
    log.files.push_back(one->path());
  }
  return logs;
}

}  // namespace

LogRules log_rules(const Home& home, Instant now) {
  LogRules rules;
  try {
    const Settings settings = home.load_settings();
    rules.most = static_cast<std::size_t>(settings.logs);
    rules.oldest_seconds = now.seconds - before(now, settings.log_age).seconds;
  } catch (const Error&) {
    // Whoever changes them is told.
  }
  return rules;
}

void keep_logs(const std::string& log_file, const LogRules& rules) {
  std::vector<Log> logs;
  for (auto& [name, log] : logs_in(std::filesystem::path(log_file).parent_path()))
    logs.push_back(std::move(log));
  std::sort(logs.begin(), logs.end(), [](const Log& a, const Log& b) { return a.changed > b.changed; });
  const std::int64_t too_old = std::time(nullptr) - rules.oldest_seconds;
  for (std::size_t i = std::min(rules.at_least, logs.size()); i < logs.size(); ++i) {
    if (i < rules.most && logs[i].changed >= too_old) continue;
    std::error_code code;
    for (const std::string& file : logs[i].files) std::filesystem::remove(file, code);
  }
}

}  // namespace kestrum
