// One writer a job's folder: an exclusively created file that says who holds it.
#pragma once

#include <string>

#include "store/store.hpp"

namespace kestrum {

// Held until destroyed. Throws Error of kind busy when somebody else holds it. On the same machine a lock
// whose process is gone is taken over; one of another machine is never.
class JobLock {
 public:
  JobLock(Store& store, const std::string& folder, const std::string& machine);
  ~JobLock();
  JobLock(const JobLock&) = delete;
  JobLock& operator=(const JobLock&) = delete;
  // Throws busy when the lock is not ours any more. Asked before a seal and before anything is removed.
  void check() const;

 private:
  Store& store_;
  std::string path_;
  std::string token_;
};

}  // namespace kestrum
