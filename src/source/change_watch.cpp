#include "source/change_watch.hpp"

#include <poll.h>
#include <sys/eventfd.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/error.hpp"
#include "base/mount_table.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

// Between two looks while much happens; the queue of the kernel holds some sixteen thousand events.
constexpr int shortest_pause = 2, longest_pause = 50;
constexpr std::size_t many_events = 256;
constexpr int before_anew = 2000;

// What the selection lies on, and what is mounted in it, as far as it is entered.
std::vector<Mount> mounts_of(const Selection& selection) {
  std::vector<Mount> found;
  const std::vector<Mount> all = read_mount_table();
  for (const TreePath& source : selection.sources) {
    const Mount* below = nullptr;
    std::size_t longest = 0;
    for (const Mount& mount : all) {
      const std::optional<TreePath> place = TreePath::parse(mount.mount);
      if (!place) continue;
      if (source.is_within(*place) && (below == nullptr || place->joined().size() >= longest)) {
        below = &mount;
        longest = place->joined().size();
      } else if (selection.mounted_below && place->is_within(source)) {
        found.push_back(mount);
      }
    }
    if (below != nullptr) found.push_back(*below);
  }
  return found;
}

}  // namespace

std::string unwatchable_place(const Selection& selection) {
  for (const Mount& mount : mounts_of(selection)) {
    const std::string place = printable(mount.mount) + " (" + mount.type + ")";
    if (is_network_file_system(mount.type))
      return place + " lies on another machine, and what happens there is told to nobody here";
    if (mount.type.starts_with("fuse") && mount.type != "fuseblk")
      return place + " is made by a program, and what changes behind it is told to nobody";
  }
  return {};
}

ChangeWatch::ChangeWatch(Selection selection, Settings settings, std::function<void()> news)
    : settings_(std::move(settings)),
      news_(std::move(news)),
      tree_(std::move(selection)),
      wake_(eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK)) {
  if (!wake_) throw system_error("watch", "folders", errno);
  thread_.start([this] { live(); });
}

ChangeWatch::~ChangeWatch() {
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
  }
  wake();
  thread_.join();
}

std::string ChangeWatch::mounts() const {
  std::string text;
  for (const Mount& mount : mounts_of(tree_.selection()))
    text += std::to_string(mount.device) + " " + mount.root + " " + mount.mount + "\n";
  return text;
}

ChangeWatch::Remembered& ChangeWatch::remember(const TreePath& folder) {
  if (folders_.size() + names_ >= settings_.most_remembered) {
    // The kernel has lost nothing, but to go through everything is no more work now.
    folders_.clear();
    names_ = 0;
    watch_ = random_id();
    if (!activity_) activity_ = Activity{Moment::clock::now(), Moment::clock::now(), {}};
    activity_->doubt = "more happened than is worth remembering";
    has_news_ = true;
  }
  Remembered& remembered = folders_[folder];
  remembered.period = period_;
  return remembered;
}

void ChangeWatch::note_activity(const TreePath& what) {
  const bool quiet = std::any_of(settings_.quiet.begin(), settings_.quiet.end(),
                                 [&](const TreePath& place) { return what.is_within(place); });
  if (quiet) return;
  const Moment now = Moment::clock::now();
  if (!activity_) {
    activity_ = Activity{now, now, {}};
    has_news_ = true;
  }
  activity_->last = now;
}

void ChangeWatch::happened(const TreePath& folder, const TreePath& what) {
  FolderChange& change = remember(folder).change;
  const std::size_t before = change.names.size();
  if (what != folder) change.add_name(what.name());
  names_ += change.names.size() - before;
  note_activity(what);
}

void ChangeWatch::came(const TreePath& folder) {
  FolderChange& change = remember(folder).change;
  names_ -= change.names.size();
  change.add({FolderChange::How::whole, {}});
  note_activity(folder);
}

void ChangeWatch::lost(const std::string& why) {
  if (lost_.empty()) lost_ = why;
  wake();
}

std::unique_ptr<WatchWay> ChangeWatch::find_way() {
  if (std::string why = unwatchable_place(tree_.selection()); !why.empty()) throw NotWatchable{why};
  NotWatchable trouble{"no way to watch was allowed"};
  for (const Way way : settings_.ways) {
    try {
      if (way == Way::file_systems) return watch_file_systems(tree_);
      return watch_folders(tree_, [this] {
        const std::lock_guard lock(mutex_);
        return stop_;
      });
    } catch (const NotWatchable& why) {
      trouble = why;
    }
  }
  throw trouble;
}

void ChangeWatch::live() {
  std::string before;  // why it begins anew
  while (true) {
    std::unique_ptr<WatchWay> way;
    std::string impossible;
    const std::string mounts_now = mounts();
    try {
      way = find_way();
    } catch (const NotWatchable& why) {
      impossible = why.why;
    } catch (const std::exception& error) {
      impossible = error.what();
    }
    std::unique_lock lock(mutex_);
    if (stop_) return;
    mounts_ = mounts_now;
    lost_.clear();
    folders_.clear();
    names_ = 0;
    watch_ = random_id();
    standing_ = way ? Standing{State::watching, way->words()} : Standing{State::impossible, impossible};
    way_ = std::move(way);
    const Moment now = Moment::clock::now();
    activity_ = Activity{now, now, before.empty() ? "nobody watched before" : before};
    if (!way_) activity_.reset();
    news_();
    watch(lock);
    if (stop_) return;
    before = lost_;
    standing_ = {};
    way_.reset();
    sleep_on();
    lock.unlock();
    // What makes the watching get lost often must not keep the machine busy.
    wait(-1, before_anew);
  }
}

// Until it is lost, or to end.
void ChangeWatch::watch(std::unique_lock<std::mutex>& lock) {
  int pause = shortest_pause;
  while (!stop_ && lost_.empty()) {
    const int handle = way_ ? way_->handle() : -1;
    lock.unlock();
    wait(handle, -1);
    lock.lock();
    if (stop_ || !way_) continue;
    const std::size_t events = way_->drain(*this);
    if (std::exchange(has_news_, false)) news_();
    // While things happen one after the other, not each for itself.
    pause = events >= many_events ? shortest_pause : std::min(pause * 2, longest_pause);
    lock.unlock();
    wait(-1, pause);
    lock.lock();
  }
}

// Until something happens, the thread is to look, or the time is over; -1: no handle, no limit.
void ChangeWatch::wait(int handle, int milliseconds) const {
  pollfd files[2] = {{wake_.get(), POLLIN, 0}, {handle, POLLIN, 0}};
  poll(files, handle >= 0 ? 2 : 1, milliseconds);
  sleep_on();
}

void ChangeWatch::sleep_on() const {
  std::uint64_t count = 0;
  [[maybe_unused]] const ssize_t got = read(wake_.get(), &count, sizeof count);
}

void ChangeWatch::wake() const {
  const std::uint64_t one = 1;
  [[maybe_unused]] const ssize_t put = write(wake_.get(), &one, sizeof one);
}

ChangeWatch::Standing ChangeWatch::standing() {
  const std::lock_guard lock(mutex_);
  return standing_;
}

std::optional<ChangeWatch::Activity> ChangeWatch::activity() {
  const std::lock_guard lock(mutex_);
  if (way_) way_->drain(*this);
  return activity_;
}

std::optional<ChangeWatch::HandOver> ChangeWatch::hand_over() {
  const std::lock_guard lock(mutex_);
  if (way_) way_->drain(*this);
  if (!way_ || !lost_.empty()) return std::nullopt;
  activity_.reset();
  return HandOver{watch_, period_++, folders_};
}

void ChangeWatch::forget_until(std::uint64_t period) {
  const std::lock_guard lock(mutex_);
  std::erase_if(folders_, [&](const auto& one) { return one.second.period <= period; });
  names_ = 0;
  for (const auto& [folder, remembered] : folders_) names_ += remembered.change.names.size();
}

void ChangeWatch::saved_until(Moment when) {
  const std::lock_guard lock(mutex_);
  if (!activity_ || !activity_->doubt.empty()) return;
  if (activity_->last < when) return activity_.reset();
  activity_->first = std::max(activity_->first, when);
}

void ChangeWatch::again() {
  const std::lock_guard lock(mutex_);
  const Moment now = Moment::clock::now();
  if (!activity_ && way_) activity_ = Activity{now, now, {}};
}

void ChangeWatch::mounts_changed() {
  const std::lock_guard lock(mutex_);
  if (standing_.state != State::beginning && mounts() != mounts_)
    lost("something was mounted or unmounted in what is watched");
}

void ChangeWatch::try_again() {
  const std::lock_guard lock(mutex_);
  if (standing_.state == State::impossible) lost("it could not be watched before");
}

}  // namespace kestrum
