#include "source/walk_ahead.hpp"

namespace kestrum {

WalkAhead::WalkAhead(const Selection& selection, FilesystemTable& filesystems, Walker::OnProblem on_problem,
                     Walker::OnNote on_note, Walker::OnLeftOut on_left_out, const ChangedFolders* changed)
    : on_problem_(std::move(on_problem)), on_note_(std::move(on_note)), on_left_out_(std::move(on_left_out)) {
  thread_.start([this, &selection, &filesystems, changed] { walk(selection, filesystems, changed); });
}

WalkAhead::~WalkAhead() {
  batches_.close();
  thread_.join();
}

void WalkAhead::walk(const Selection& selection, FilesystemTable& filesystems,
                     const ChangedFolders* changed) {
  Batch batch;
  std::size_t folders = 0;
  bool wanted = true;  // somebody takes what is found
  auto hand_over = [&] {
    wanted = batches_.push(std::exchange(batch, {}));
    batch.reserve(most_things);
    folders = 0;
  };
  try {
    Walker::OnLeftOut left_out;
    if (on_left_out_) {
      left_out = [&](const LeftOut& left) {
        batch.emplace_back(left);
        if (batch.size() >= most_things) hand_over();
      };
    }
    Walker walker(
        selection, filesystems, [&](const Problem& problem) { batch.emplace_back(problem); },
        [&](const std::string& text) { batch.emplace_back(Note{text}); }, left_out, changed);
    while (const Walked* found = wanted ? walker.next() : nullptr) {
      folders += found->own ? 1 : 0;
      batch.emplace_back(*found);
      if (batch.size() >= most_things || folders >= most_folders) hand_over();
    }
  } catch (...) {
    batch.emplace_back(std::current_exception());
  }
  batches_.push(std::move(batch));
  batches_.close();
}

const Walked* WalkAhead::next() {
  while (true) {
    if (at_ == now_.size()) {
      std::optional<Batch> batch = batches_.pop();
      if (!batch) return nullptr;
      now_ = std::move(*batch);
      at_ = 0;
      continue;
    }
    Event& event = now_[at_++];
    if (const auto* found = std::get_if<Walked>(&event)) return found;
    if (const auto* problem = std::get_if<Problem>(&event)) {
      on_problem_(*problem);
    } else if (const auto* note = std::get_if<Note>(&event)) {
      on_note_(note->text);
    } else if (const auto* left = std::get_if<LeftOut>(&event)) {
      on_left_out_(*left);
    } else {
      std::rethrow_exception(std::get<std::exception_ptr>(event));
    }
  }
}

}  // namespace kestrum
