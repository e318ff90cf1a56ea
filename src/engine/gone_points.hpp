// Points that lay on a job's drive when this home looked last, and are not there any more though no rule and
// no person let them go.
#pragma once

#include "engine/session.hpp"

namespace kestrum {

// In order. Nothing of a session by a path, and of a drive that this home does not know. The newest is left
// to LookSession::older_state() where that tells of it.
std::vector<KnownPoint> gone_points(const LookSession& session);

// "point 3 (full, ...) is gone, and neither a rule nor a person let it go: it held ...". Without what to do.
std::string gone_text(const KnownPoint& point);
// What says that it is well: a command.
std::string gone_advice(const Job& job, const KnownPoint& point);
// Both, a line each.
std::vector<std::string> gone_lines(const LookSession& session);

// A person says that these may be gone.
void let_be_gone(History& history, const std::vector<KnownPoint>& points, Instant when);

}  // namespace kestrum
