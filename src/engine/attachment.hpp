// A destination that is reachable only while it is needed: [where] attach, mount and detach.
#pragma once

#include "engine/run_context.hpp"
#include "store/private_mount.hpp"

namespace kestrum {

class Attachment {
 public:
  // Nothing where the job says nothing of it. Throws Error of kind no_destination, Stopped.
  Attachment(const Job& job, const RunContext& context);
  ~Attachment();
  Attachment(const Attachment&) = delete;
  Attachment& operator=(const Attachment&) = delete;
  // What went wrong; nothing the second time.
  std::vector<Problem> detach();

 private:
  void mount_drives();
  const Job& job_;
  const RunContext& context_;
  std::vector<std::unique_ptr<PrivateMount>> mounts_;
  bool attached_ = false;
};

// A run of the job brings its destination about itself. `drive`: the first one that cannot be reached for all
// that: a drive that is to be mounted and is not plugged in; empty: none.
bool attaches_itself(const Job& job, std::string& drive);

}  // namespace kestrum
