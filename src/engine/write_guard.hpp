// One question before anything that cannot be taken back: is the lock still ours, and the drive still the
// same?
#pragma once

#include "engine/destination.hpp"
#include "engine/job_lock.hpp"

namespace kestrum {

// Asked before a seal, before each removal, after any pause. References must outlive it.
class WriteGuard {
 public:
  WriteGuard(const Destination& destination, const JobLock& lock) : destination_(destination), lock_(lock) {}
  // Throws Error: no_destination (unmounted), wrong_drive (another is in its place), busy (the lock is lost).
  void check() const;

 private:
  const Destination& destination_;
  const JobLock& lock_;
};

}  // namespace kestrum
