#include "engine/agent_events.hpp"

#include <fcntl.h>
#include <linux/netlink.h>
#include <sys/epoll.h>
#include <sys/inotify.h>
#include <sys/signalfd.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/timerfd.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <csignal>
#include <filesystem>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

constexpr std::uint32_t file_changes =
    IN_CLOSE_WRITE | IN_MOVED_TO | IN_MOVED_FROM | IN_DELETE | IN_DELETE_SELF | IN_MOVE_SELF | IN_ONLYDIR;

sigset_t ending_signals() {
  sigset_t signals;
  sigemptyset(&signals);
  for (int signal : {SIGTERM, SIGINT, SIGHUP}) sigaddset(&signals, signal);
  return signals;
}

// The kernel's own word of devices that come; not to be had everywhere.
FileHandle hear_of_devices() {
  FileHandle socket_of(socket(AF_NETLINK, SOCK_DGRAM | SOCK_CLOEXEC | SOCK_NONBLOCK, NETLINK_KOBJECT_UEVENT));
  sockaddr_nl address{};
  address.nl_family = AF_NETLINK;
  address.nl_groups = 1;  // of the kernel
  if (!socket_of || bind(socket_of.get(), reinterpret_cast<sockaddr*>(&address), sizeof address) != 0)
    return {};
  return socket_of;
}

[[noreturn]] void refuse(const std::string& what) {
  throw Error(ErrorKind::failed, "the agent cannot " + what + ": " + system_reason(errno),
              "it lives on being woken; see that the kernel's limits (fs.inotify) leave room");
}

}  // namespace

AgentEvents::AgentEvents(const Home& home, const Clock& clock, std::chrono::microseconds beat)
    : home_(home), clock_(clock) {
  home_.make_folder_of(home_.steering_file("any"));
  home_.make_jobs_folder();
  poll_ = FileHandle(epoll_create1(EPOLL_CLOEXEC));
  changes_ = FileHandle(inotify_init1(IN_CLOEXEC | IN_NONBLOCK));
  mounts_ = FileHandle(open("/proc/self/mountinfo", O_RDONLY | O_CLOEXEC));
  const sigset_t signals = ending_signals();
  signals_ = FileHandle(signalfd(-1, &signals, SFD_CLOEXEC | SFD_NONBLOCK));
  if (!poll_ || !changes_ || !signals_ || timer_.get() < 0) refuse("be woken");
  watch_folders();
  add(changes_.get(), EPOLLIN);
  add(signals_.get(), EPOLLIN);
  add(timer_.get(), EPOLLIN);
  if (mounts_) add(mounts_.get(), EPOLLPRI);
  plugged_ = hear_of_devices();
  if (plugged_) add(plugged_.get(), EPOLLIN);
  again_ = FileHandle(timerfd_create(CLOCK_MONOTONIC, TFD_CLOEXEC | TFD_NONBLOCK));
  if (!again_) refuse("be woken");
  add(again_.get(), EPOLLIN);
  if (beat.count() > 0) {
    beat_ = FileHandle(timerfd_create(CLOCK_MONOTONIC, TFD_CLOEXEC | TFD_NONBLOCK));
    itimerspec spec{};
    spec.it_interval = {beat.count() / 1000000, beat.count() % 1000000 * 1000};
    spec.it_value = spec.it_interval;
    if (!beat_ || timerfd_settime(beat_.get(), 0, &spec, nullptr) != 0) refuse("be woken");
    add(beat_.get(), EPOLLIN);
  }
  sigprocmask(SIG_BLOCK, &signals, nullptr);
}

AgentEvents::~AgentEvents() {
  const sigset_t signals = ending_signals();
  sigprocmask(SIG_UNBLOCK, &signals, nullptr);
}

// Again after a folder was removed or moved: a watch follows the folder, not the name.
void AgentEvents::watch_folders() {
  jobs_watch_ = inotify_add_watch(changes_.get(), home_.jobs_folder().c_str(), file_changes);
  if (jobs_watch_ < 0) refuse("watch " + printable(home_.jobs_folder()));
  steering_watch_ = inotify_add_watch(changes_.get(), home_.steering_folder().c_str(), file_changes);
  if (steering_watch_ < 0) refuse("watch " + printable(home_.steering_folder()));
  if (const std::string told_by = clock_.told_by(); !told_by.empty())
    clock_watch_ =
        inotify_add_watch(changes_.get(), std::filesystem::path(told_by).parent_path().c_str(), file_changes);
}

void AgentEvents::add(int file, std::uint32_t events) {
  epoll_event event{};
  event.events = events;
  event.data.fd = file;
  if (epoll_ctl(poll_.get(), EPOLL_CTL_ADD, file, &event) != 0) refuse("be woken");
}

void AgentEvents::watch_sources(int handle) {
  sources_ = handle;
  add(handle, EPOLLIN);
}

bool AgentEvents::watch_process(pid_t pid) {
  // The C library's own header for this is not made for C++ in this version.
  FileHandle handle(static_cast<int>(syscall(SYS_pidfd_open, pid, 0)));
  if (!handle) return false;
  const int number = handle.get();
  add(number, EPOLLIN);
  processes_[number] = {pid, std::move(handle)};
  return true;
}

void AgentEvents::read_changes(Happened& happened) {
  alignas(inotify_event) char buffer[16384];
  ssize_t got = 0;
  bool folder_gone = false;
  while ((got = read(changes_.get(), buffer, sizeof buffer)) > 0) {
    for (char* at = buffer; at < buffer + got;) {
      const auto* event = reinterpret_cast<const inotify_event*>(at);
      at += sizeof(inotify_event) + event->len;
      folder_gone = folder_gone || (event->mask & (IN_DELETE_SELF | IN_MOVE_SELF | IN_IGNORED)) != 0;
      const bool lost = (event->mask & IN_Q_OVERFLOW) != 0;
      happened.jobs = happened.jobs || lost || event->wd == jobs_watch_;
      happened.steering = happened.steering || lost || event->wd == steering_watch_;
      happened.clock = happened.clock || lost || event->wd == clock_watch_;
    }
  }
  if (!folder_gone) return;
  home_.make_folder_of(home_.steering_file("any"));
  home_.make_jobs_folder();
  watch_folders();
  happened.jobs = true;
}

void AgentEvents::read_signals(Happened& happened) {
  signalfd_siginfo info{};
  while (read(signals_.get(), &info, sizeof info) == sizeof info) happened.stop = true;
}

// "add@/devices/...", and lines of NAME=VALUE, each ended by a zero.
void AgentEvents::read_plugged(Happened& happened) {
  char message[8192];
  ssize_t got = 0;
  while ((got = recv(plugged_.get(), message, sizeof message, 0)) > 0 || (got < 0 && errno == ENOBUFS)) {
    const std::string_view text(message, static_cast<std::size_t>(std::max<ssize_t>(got, 0)));
    const bool came = text.starts_with("add@") || text.starts_with("change@");
    const bool drive = got < 0 || (came && text.find("SUBSYSTEM=block") != std::string_view::npos);
    happened.mounts = happened.mounts || drive;
    if (!drive) continue;
    // The word comes first: it may be some time until the drive can be read.
    looks_left_ = 2;
    look_again_in(1);
  }
}

void AgentEvents::look_again_in(int seconds) {
  itimerspec spec{};
  spec.it_value.tv_sec = seconds;
  timerfd_settime(again_.get(), 0, &spec, nullptr);
}

AgentEvents::Happened AgentEvents::wait(std::optional<Instant> until) {
  timer_.set(until, clock_);
  Happened happened;
  epoll_event events[16];
  const int count = epoll_wait(poll_.get(), events, 16, -1);
  ++wake_ups_;
  for (int i = 0; i < count; ++i) {
    const int file = events[i].data.fd;
    if (file == changes_.get()) {
      read_changes(happened);
    } else if (file == sources_) {
      happened.sources = true;
    } else if (file == signals_.get()) {
      read_signals(happened);
    } else if (file == mounts_.get()) {
      happened.mounts = true;
    } else if (file == plugged_.get()) {
      read_plugged(happened);
    } else if (file == again_.get()) {
      std::uint64_t times = 0;
      [[maybe_unused]] const ssize_t got = read(again_.get(), &times, sizeof times);
      happened.mounts = true;
      if (--looks_left_ > 0) look_again_in(5);
    } else if (file == beat_.get()) {
      std::uint64_t times = 0;
      [[maybe_unused]] const ssize_t got = read(beat_.get(), &times, sizeof times);
    } else if (file == timer_.get()) {
      const WallTimer::Woke woke = timer_.take();
      happened.time = happened.time || woke == WallTimer::Woke::time;
      happened.clock = happened.clock || woke == WallTimer::Woke::clock;
    } else if (auto process = processes_.find(file); process != processes_.end()) {
      happened.ended.push_back(process->second.first);
      processes_.erase(process);
    }
  }
  return happened;
}

}  // namespace kestrum
