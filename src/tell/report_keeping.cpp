#include "tell/report_keeping.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <map>

#include "base/text.hpp"
#include "engine/job_in_force.hpp"
#include "tell/output_file.hpp"
#include "tell/report_page.hpp"

namespace kestrum {
namespace {

std::map<std::string, std::vector<std::string>> wanted_pages(const Home& home) {
  std::map<std::string, std::vector<std::string>> pages;
  for (const std::string& name : home.job_names()) {
    try {
      std::optional<Error> trouble;
      const std::optional<JobInForce> job = job_in_force(home, name, &trouble);
      if (job && !job->job.tell.page.empty()) {
        pages[job->job.tell.page].push_back(name);
      } else if (job) {
        unlink(home.page_trouble_file(name).c_str());
      }
    } catch (const Error&) {
      // It went this very moment.
    }
  }
  return pages;
}

void remember(const Home& home, const std::vector<std::string>& jobs, const std::string& trouble) {
  for (const std::string& job : jobs) {
    const std::string file = home.page_trouble_file(job);
    if (trouble.empty()) {
      unlink(file.c_str());
      continue;
    }
    home.make_folder_of(file);
    replace_file(file, as_bytes(trouble), 0600);
  }
}

}  // namespace

std::vector<std::string> keep_pages(const RunContext& context) {
  std::vector<std::string> troubles;
  for (const auto& [path, jobs] : wanted_pages(context.home)) {
    std::string trouble;
    try {
      // An agent that the system starts makes files for itself alone; a page is made to be read. Whoever
      // closes it finds it closed again.
      struct stat status {};
      const bool there = lstat(path.c_str(), &status) == 0 && S_ISREG(status.st_mode);
      OutputFile file(path);
      file.set_mode(there ? status.st_mode & 0777 : 0644);
      file.write(report_page(report_jobs(jobs, context)));
      file.keep();
    } catch (const Error& error) {
      trouble = error.what();
    }
    try {
      remember(context.home, jobs, trouble);
    } catch (const Error& error) {
      if (trouble.empty()) trouble = error.what();
    }
    if (!trouble.empty()) troubles.push_back("the page " + printable(path) + ": " + trouble);
  }
  return troubles;
}

}  // namespace kestrum
