// What a verb shares that goes to the destinations of a job: its sessions with them, one after the other.
#pragma once

#include "engine/session.hpp"

namespace kestrum {

struct EachDrive {
  // `context` must outlive it. Throws usage when there is no such job.
  EachDrive(const std::string& name, const RunContext& context);
  // The same with the job as it is in force.
  EachDrive(Job job, const RunContext& context);

  // Calls `use` for each destination that is connected and has a set. Throws Error, of the first that could
  // not be used, when there is none.
  void visit(const std::function<void(LookSession)>& use);
  // The same for writing, with the keys of all sets tried and interrupted folds put in order.
  void change(const std::function<void(WriteSession&)>& use);
  // The same with one that was visited. What a drive that goes away means for what failed is told as that.
  void change_one(LookSession found, const std::function<void(WriteSession&)>& use);

  const RunContext& context;
  Job job;
  std::optional<JobState> state;
  History history;
  std::shared_ptr<KeyRing> keys;
};

}  // namespace kestrum
