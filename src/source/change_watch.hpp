// Watches what a selection takes, on a thread of its own, and remembers the folders in which something
// happened since when.
#pragma once

#include <chrono>
#include <functional>
#include <memory>
#include <mutex>

#include "base/file_handle.hpp"
#include "base/random.hpp"
#include "base/thread_group.hpp"
#include "source/watch_way.hpp"

namespace kestrum {

class ChangeWatch final : private WatchSink {
 public:
  enum class Way { file_systems, folders };
  struct Settings {
    std::vector<Way> ways{Way::file_systems, Way::folders};  // tried in this order
    std::vector<TreePath> quiet = {};      // what happens in these is remembered, but is no news
    std::size_t most_remembered = 200000;  // folders and names in them; more are a doubt
  };
  // `news`: called from the thread, with this locked, when there begins to be an activity() or standing()
  // differs. Throws Error of kind failed.
  ChangeWatch(Selection selection, Settings settings, std::function<void()> news);
  ~ChangeWatch() override;
  ChangeWatch(const ChangeWatch&) = delete;
  ChangeWatch& operator=(const ChangeWatch&) = delete;

  enum class State { beginning, watching, impossible };
  struct Standing {
    State state = State::beginning;
    std::string words;  // impossible: why; watching: what is watched
  };
  Standing standing();

  using Moment = std::chrono::steady_clock::time_point;
  // What happened since the last hand_over() that is worth a run; nothing: nothing did. What is not known
  // counts: the time before the watching began, or began anew.
  struct Activity {
    Moment first, last;
    std::string doubt;  // why everything must be looked at; empty: it need not be
  };
  std::optional<Activity> activity();

  // What is remembered, with the period in which it happened last.
  struct Remembered {
    FolderChange change;
    std::uint64_t period = 0;
  };
  struct HandOver {
    Id watch{};  // another one each time the watching began anew: nothing is known of before
    // That ends now. What is made of the sources from now on holds all that is remembered; what happens later
    // is of a later period.
    std::uint64_t period = 0;
    std::map<TreePath, Remembered> folders;
  };
  // Nothing while it is not watching.
  std::optional<HandOver> hand_over();
  // Nobody asks any more for what happened until the end of that period.
  void forget_until(std::uint64_t period);
  // Everything was looked at and saved later than that: what happened before is no news any more.
  void saved_until(Moment when);
  // It counts as news again: what it was handed over for came to nothing.
  void again();
  // Something was mounted or unmounted somewhere.
  void mounts_changed();
  // Where it was impossible, that may have been mended.
  void try_again();

 private:
  void happened(const TreePath& folder, const TreePath& what) override;
  void came(const TreePath& folder) override;
  Remembered& remember(const TreePath& folder);
  void note_activity(const TreePath& what);
  void lost(const std::string& why) override;
  void live();
  std::unique_ptr<WatchWay> find_way();
  void watch(std::unique_lock<std::mutex>& lock);
  void wait(int handle, int milliseconds) const;
  void wake() const;
  void sleep_on() const;  // whatever it was woken for until now
  std::string mounts() const;

  const Settings settings_;
  const std::function<void()> news_;
  WatchedTree tree_;
  FileHandle wake_;  // written when the thread should look: at the end, or to begin anew

  std::mutex mutex_;
  bool stop_ = false;
  bool has_news_ = false;  // that news_ was not called for yet
  std::unique_ptr<WatchWay> way_;
  Standing standing_;
  std::string lost_;  // why it must begin anew; empty: it need not
  std::string mounts_;
  Id watch_{};
  std::uint64_t period_ = 1;
  std::map<TreePath, Remembered> folders_;
  std::size_t names_ = 0;  // in them
  std::optional<Activity> activity_;
  ThreadGroup thread_;
};

// Why a selection cannot be watched for what it lies on: network drives tell nothing of what other machines
// do there. Empty when it can.
std::string unwatchable_place(const Selection& selection);

}  // namespace kestrum
