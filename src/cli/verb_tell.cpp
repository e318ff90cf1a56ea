// tell, and the hidden verb that the agent starts when there may be something to tell.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/run_options.hpp"
#include "cli/tell_words.hpp"
#include "cli/verbs.hpp"
#include "tell/telling_documents.hpp"

namespace kestrum {
namespace {

int tell(const Arguments& arguments, const Environment& environment) {
  Progress progress(environment, true);
  const RunContext context = run_context(environment, progress);
  if (!arguments.has("test")) {
    if (!arguments.words().empty())
      throw Error(ErrorKind::usage,
                  "'tell' sends what is to be told of all jobs; with a job's name it is a test",
                  "kestrum tell " + shell_word(printable(arguments.words()[0])) + " --test");
    const TellDone done = tell_news(context, true);
    if (arguments.has("json")) {
      print_document(told_document(done));
    } else {
      print_told(done);
      if (done.events.empty() && told_exit(done) == exit_done) out("There is nothing to tell now.\n");
    }
    return told_exit(done);
  }
  if (arguments.words().empty())
    throw Error(ErrorKind::usage, "'tell --test' needs the name of a job", "see: kestrum job list");
  const TellDone done = tell_trial(environment.home().load_job(arguments.words()[0]), context);
  if (arguments.has("json")) {
    print_document(told_document(done));
  } else {
    print_told(done);
  }
  return told_exit(done);
}

int agent_tell(const Arguments&, const Environment& environment) {
  Progress progress(environment, true);
  const RunContext context = run_context(environment, progress);
  const TellDone done = tell_news(context);
  print_told(done);
  return told_exit(done);
}

}  // namespace

Verb tell_verb() {
  return {{"tell",
           "[JOB]",
           "send the mail that is to be sent, or one to try it",
           "The agent and each run do this by themselves. With --test one mail about JOB goes to whoever is "
           "told of "
           "it, and what the server answered is shown.",
           0,
           1,
           {{"test", "", "send one now, whatever there is to tell"}, json_option},
           {"kestrum tell wardens --test", "kestrum tell"}},
          tell};
}

Verb agent_tell_verb() {
  return {{"agent-tell", "", "send the mail that is to be sent, for the agent", "", 0, 0, {}, {}},
          agent_tell};
}

}  // namespace kestrum
