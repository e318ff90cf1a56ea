#include "cli/run_options.hpp"

#include "base/error.hpp"
#include "base/text.hpp"
#include "cli/asker.hpp"
#include "cli/progress.hpp"

namespace kestrum {

const OptionSpec kind_option{"kind",
                             "KIND",
                             "full, incremental or differential, for this time only",
                             false,
                             {"full", "incremental", "differential"}};

const OptionSpec break_lock_option{"break-lock", "",
                                   "another machine holds the lock, and it surely does not write any more"};

std::optional<Kind> wanted_kind(const Arguments& arguments) {
  std::optional<std::string> text = arguments.value("kind");
  if (!text) return std::nullopt;
  return parse_kind(*text);
}

RunContext run_context(const Environment& environment, Observer& observer) {
  RunContext context{.home = environment.home(),
                     .clock = environment.clock(),
                     .observer = observer,
                     .control = process_control(),
                     .ask = environment.ask(),
                     .machine = environment.machine(),
                     .program = std::string("kestrum ") + KESTRUM_VERSION,
                     .workers = environment.workers()};
  context.people = environment.people();
  context.session_bus = environment.session_bus();
  return context;
}

void confirm(const Environment& environment, const std::string& question, const std::string& help) {
  if (!environment.in_and_out_are_terminals())
    throw Error(ErrorKind::usage, "there is nobody to ask: standard input or output is no terminal",
                "look first with --dry, then say it with --yes");
  bool yes = false;
  try {
    yes = Asker(environment.out_colour()).yes(question, false, help);
  } catch (const WentBack&) {
    yes = false;
  }
  if (!yes) throw Stopped{"nothing was changed, as asked"};
}

}  // namespace kestrum
