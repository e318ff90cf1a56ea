// What the next run of a job is refused with, and the words with which it goes on: for the run itself, and
// for whoever looks before it.
#pragma once

#include <optional>

#include "base/error.hpp"
#include "engine/own_folder.hpp"

namespace kestrum {

// The destination shows another state than this machine remembers: LookSession::older_state().
Error older_state_error(const LookSession& session, const std::string& older);

// Nothing where it goes on, and of a session by a path.
std::optional<Error> run_refusal(const LookSession& session);

}  // namespace kestrum
