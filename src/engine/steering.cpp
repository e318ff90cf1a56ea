#include "engine/steering.hpp"

#include <poll.h>
#include <sys/eventfd.h>
#include <sys/inotify.h>
#include <sys/timerfd.h>
#include <unistd.h>

#include <algorithm>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/file_handle.hpp"
#include "base/process_identity.hpp"
#include "base/text.hpp"
#include "engine/wall_timer.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::ordered_json;

Steering read_steering(const Json& json) {
  Steering steering;
  if (!json.is_object()) return steering;
  if (auto pause = json.find("pause"); pause != json.end() && pause->is_object()) {
    steering.pause.emplace();
    steering.pause->until = parse_utc(pause->value("until", std::string()));
    steering.paused_at = parse_utc(pause->value("since", std::string())).value_or(Instant{});
  }
  if (auto stop = json.find("stop"); stop != json.end() && stop->is_array()) {
    for (const Json& one : *stop) {
      if (one.is_string()) steering.stop.push_back(one.get<std::string>());
    }
    steering.discard = json.value("discard", false);
  }
  return steering;
}

}  // namespace

Steering load_steering(const Home& home, const std::string& job) {
  try {
    const Bytes text = read_small_file(home.steering_file(job), 64u << 10);
    return read_steering(Json::parse(text.begin(), text.end(), nullptr, false));
  } catch (const Error&) {
    return {};
  } catch (const Json::exception&) {
    return {};
  }
}

void save_steering(const Home& home, const std::string& job, const Steering& steering) {
  Json json = Json::object();
  if (steering.pause) {
    json["pause"] = {{"since", utc_text(steering.paused_at)}};
    if (steering.pause->until) json["pause"]["until"] = utc_text(*steering.pause->until);
  }
  if (!steering.stop.empty()) {
    json["stop"] = steering.stop;
    if (steering.discard) json["discard"] = true;
  }
  const std::string path = home.steering_file(job);
  if (json.empty()) {
    if (unlink(path.c_str()) != 0 && errno != ENOENT) throw system_error("remove", path, errno);
    return;
  }
  home.make_folder_of(path);
  replace_file(path, as_bytes(json.dump(1) + "\n"), 0600);
}

struct SteeredRun::Follower {
  const Home& home;
  std::string job;
  const Clock& clock;
  RunControl& control;
  bool unattended;
  std::string own = ProcessIdentity::own().text();
  FileHandle changes, ended;
  WallTimer timer;
  Instant begun;  // pauses from before do not count for a run by hand
  std::jthread thread;

  // Acts on what the file says now, and sets the timer for when that ends.
  void follow() {
    const Steering steering = load_steering(home, job);
    const Instant now = clock.now();
    const bool counts = unattended || steering.paused_at >= begun;
    const bool paused = counts && steering.is_paused(now);
    if (paused) {
      control.pause();
    } else {
      control.go_on();
    }
    if (std::find(steering.stop.begin(), steering.stop.end(), own) != steering.stop.end()) {
      if (steering.discard) control.discard();
      control.stop_for_good();
    }
    timer.set(paused ? steering.pause->until : std::nullopt, clock);
  }

  void loop() {
    pollfd places[3] = {{changes.get(), POLLIN, 0}, {timer.get(), POLLIN, 0}, {ended.get(), POLLIN, 0}};
    while (true) {
      if (poll(places, 3, -1) < 0 && errno != EINTR) return;
      if ((places[2].revents & POLLIN) != 0) return;
      if ((places[0].revents & POLLIN) != 0) {
        alignas(inotify_event) char buffer[4096];
        while (read(changes.get(), buffer, sizeof buffer) > 0) {
        }
      }
      // The clock was set, or the machine slept.
      if ((places[1].revents & POLLIN) != 0 && timer.take() == WallTimer::Woke::clock) control.look_again();
      follow();
    }
  }
};

SteeredRun::SteeredRun(const Home& home, const std::string& job, const Clock& clock, RunControl& control,
                       Observer& observer, bool unattended) {
  auto follower = std::unique_ptr<Follower>(
      new Follower{home, job, clock, control, unattended, ProcessIdentity::own().text(), {}, {}, {}, {}, {}});
  try {
    home.make_folder_of(home.steering_file(job));
  } catch (const Error& error) {
    observer.note("this run cannot be paused or stopped from elsewhere: " + std::string(error.what()));
    return;
  }
  follower->changes = FileHandle(inotify_init1(IN_CLOEXEC | IN_NONBLOCK));
  follower->ended = FileHandle(eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK));
  const bool watched = follower->changes && follower->ended && follower->timer.get() >= 0 &&
                       inotify_add_watch(follower->changes.get(), home.steering_folder().c_str(),
                                         IN_CLOSE_WRITE | IN_MOVED_TO | IN_DELETE) >= 0;
  if (!watched) {
    observer.note("this run cannot be paused or stopped from elsewhere: " + system_reason(errno));
    return;
  }
  follower->begun = clock.now();
  follower_ = std::move(follower);
  follower_->follow();
  follower_->thread = std::jthread([this] { follower_->loop(); });
}

SteeredRun::~SteeredRun() {
  if (!follower_) return;
  const std::uint64_t one = 1;
  while (write(follower_->ended.get(), &one, sizeof one) < 0 && errno == EINTR) {
  }
}

}  // namespace kestrum
