// From what a job says to what the walk takes, on this machine, now.
#pragma once

#include "job/job.hpp"
#include "source/accounts.hpp"
#include "source/selection.hpp"

namespace kestrum {

// `now`: ages are counted back from it. `note` is told of what a person may not expect. Throws Error of kind
// usage: nobody of that name, nobody with a home.
Selection select(const WhatToSave& what, const People& people, Instant now,
                 const std::function<void(const std::string&)>& note);

}  // namespace kestrum
