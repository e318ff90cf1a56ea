// The form of a job that counts when it starts by itself: its file, or while that does not read the last form
// that did.
#pragma once

#include "base/error.hpp"
#include "engine/home.hpp"

namespace kestrum {

struct JobInForce {
  Job job;
  std::optional<Error> trouble;  // the file does not read: this is its last good form
};
// Nothing when the file does not read and no good form of it is known: `trouble` then says why. Throws Error
// of kind usage when there is no such file.
std::optional<JobInForce> job_in_force(const Home& home, const std::string& name,
                                       std::optional<Error>* trouble = nullptr);

// Remembers a form that reads, if it is not remembered already. Failing is no trouble: only a later bad edit
// would meet it.
void remember_good_form(const Home& home, const Job& job);

}  // namespace kestrum
