#include "cli/run_options.hpp"

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {

const OptionSpec kind_option{"kind", "KIND", "full, incremental or differential, for this time only"};

std::optional<Kind> wanted_kind(const Arguments& arguments) {
  std::optional<std::string> text = arguments.value("kind");
  if (!text) return std::nullopt;
  std::optional<Kind> kind = parse_kind(*text);
  if (kind) return kind;
  std::vector<std::string> words{"full", "incremental", "differential"};
  std::optional<std::string> near = nearest(*text, words);
  throw Error(ErrorKind::usage, "--kind '" + printable(*text) + "' is not full, incremental or differential",
              near ? "did you mean '" + *near + "'?" : "write one of them");
}

RunContext run_context(const Environment& environment, Observer& observer) {
  RunContext context{environment.home(),   environment.clock(),   observer,
                     environment.ask(),    environment.machine(), std::string("kestrum ") + KESTRUM_VERSION,
                     environment.workers()};
  context.people = environment.people();
  return context;
}

}  // namespace kestrum
