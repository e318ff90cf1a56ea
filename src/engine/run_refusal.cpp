#include "engine/run_refusal.hpp"

#include "base/text.hpp"
#include "engine/session.hpp"

namespace kestrum {

Error older_state_error(const LookSession& session, const std::string& older) {
  return Error(ErrorKind::wrong_drive, older,
               "look at the drive: was it copied, set back, or changed by somebody? To go on from what it "
               "shows now: kestrum run " +
                   shell_word(printable(session.job()->name)) + " --moved");
}

std::optional<Error> run_refusal(const LookSession& session) {
  if (!session.job()) return std::nullopt;
  if (const std::optional<NotOwn> why = not_own(session)) return not_own_error(session, *why);
  if (std::string older = session.older_state(); !older.empty()) return older_state_error(session, older);
  return std::nullopt;
}

}  // namespace kestrum
