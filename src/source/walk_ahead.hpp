// Walks on a thread of its own, a little ahead of whoever takes what is found: looking at files is mostly
// waiting for the system.
#pragma once

#include <exception>
#include <variant>

#include "base/bounded_queue.hpp"
#include "base/thread_group.hpp"
#include "source/walker.hpp"

namespace kestrum {

// Used as a Walker is; problems and notes are told in order, by `next`, on the caller's thread.
class WalkAhead {
 public:
  WalkAhead(const Selection& selection, FilesystemTable& filesystems, Walker::OnProblem on_problem,
            Walker::OnNote on_note, Walker::OnLeftOut on_left_out = {},
            const ChangedFolders* changed = nullptr);
  ~WalkAhead();
  WalkAhead(const WalkAhead&) = delete;
  WalkAhead& operator=(const WalkAhead&) = delete;
  const Walked* next();

 private:
  // Batches keep their folders open.
  static constexpr std::size_t most_things = 256;
  static constexpr std::size_t most_folders = 24;
  struct Note {
    std::string text;
  };
  using Event = std::variant<Walked, Problem, Note, LeftOut, std::exception_ptr>;
  using Batch = std::vector<Event>;
  void walk(const Selection& selection, FilesystemTable& filesystems, const ChangedFolders* changed);

  Walker::OnProblem on_problem_;
  Walker::OnNote on_note_;
  Walker::OnLeftOut on_left_out_;
  BoundedQueue<Batch> batches_{4};
  Batch now_;
  std::size_t at_ = 0;
  ThreadGroup thread_;
};

}  // namespace kestrum
