#include "job/command_lines.hpp"

#include "base/text.hpp"

namespace kestrum {

std::string short_command(const std::string& command) {
  std::vector<std::string> lines;
  for (const std::string& line : split(command, '\n')) {
    if (!line.empty()) lines.push_back(printable(line));
  }
  if (lines.size() < 2) return join(lines, "");
  return lines[0] + " ... (" + std::to_string(lines.size()) + " lines)";
}

std::vector<std::string> command_lines(const Job& job) {
  std::vector<std::string> lines;
  if (!job.before.empty())
    lines.push_back("before the run: " + short_command(job.before) + " (when it fails, the run " +
                    (job.goes_on_without_before ? "goes on all the same)" : "gives up)"));
  if (!job.after_failure.empty())
    lines.push_back("after a run that failed: " + short_command(job.after_failure));
  if (!job.after.empty()) lines.push_back("after the run, whatever came of it: " + short_command(job.after));
  if (!lines.empty()) lines.push_back("each of them is ended after " + job.around_limit.text());
  if (job.afterwards != Afterwards::nothing)
    lines.push_back(std::string("after a run") +
                    (job.afterwards_if_failed ? ", also one that failed," : " that went well") +
                    " the machine " +
                    (job.afterwards == Afterwards::standby ? "goes to standby" : "is switched off") +
                    ", a minute after that was said (kestrum stay: it stays on)");
  return lines;
}

}  // namespace kestrum
