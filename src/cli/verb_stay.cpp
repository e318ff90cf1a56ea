// stay.
#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/verbs.hpp"
#include "engine/afterwards.hpp"

namespace kestrum {
namespace {

int stay(const Arguments&, const Environment&) {
  const std::size_t held = hold_off_countdowns();
  out("{}\n", held > 0 ? "The machine stays on." : "No run is about to put this machine to rest.");
  return exit_done;
}

}  // namespace

Verb stay_verb() {
  return {{"stay",
           "",
           "keep the machine on when a run is about to put it to rest",
           "A job may say that the machine goes to standby or is switched off after its run; that is said a "
           "minute "
           "before, and anybody at the machine can hold it off.",
           0,
           0,
           {},
           {"kestrum stay"}},
          stay};
}

}  // namespace kestrum
