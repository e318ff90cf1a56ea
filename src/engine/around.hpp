// The commands of a job around its runs: [around] before, after-failure and after.
#pragma once

#include "engine/backup.hpp"

namespace kestrum {

class Around {
 public:
  // References must outlive it.
  Around(const Job& job, const RunContext& context) : job_(job), context_(context) {}

  // The command before the run, once, however many destinations there are. True: it was run now, so that the
  // sources may be others. `problem` is told where the job goes on without it. Throws Error of kind failed
  // where the job gives up then, each time; Stopped.
  bool before(const std::function<void(const Problem&)>& problem);
  // After the last destination: after-failure where the run failed, and after. Also after a stop, which they
  // are not broken off by; they have less time then. Nothing is run where another run of the job goes on and
  // this one did not come as far as before(): what that one needs would be put in order under its feet. What
  // went wrong with them.
  std::vector<Problem> after(const RunOutcome& outcome);

 private:
  // Nothing: it ended well; else why it did not.
  std::optional<std::string> run(const std::string& when, const std::string& command,
                                 const std::map<std::string, std::string>& more, std::chrono::seconds limit,
                                 RunControl& control);
  std::chrono::seconds limit() const;
  bool another_goes_on() const;

  const Job& job_;
  const RunContext& context_;
  bool came_so_far_ = false;
  std::optional<Error> failed_;
};

}  // namespace kestrum
