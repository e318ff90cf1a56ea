#include "cli/progress.hpp"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <csignal>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "tell/run_log.hpp"

namespace kestrum {
namespace {

RunControl control;

std::atomic<int> stopping_itself = 0;

void ask_stop(int signal) {
  const bool again = control.stop_requested();
  control.stop();
  if (stopping_itself > 0 && signal == SIGINT && again) {
    constexpr char now[] = "\nkestrum: ended at once, as asked; the next run puts in order what is left\n";
    [[maybe_unused]] ssize_t told = write(STDERR_FILENO, now, sizeof now - 1);
    _exit(exit_code_of(ErrorKind::stopped));
  }
  if (stopping_itself > 0) {
    constexpr char first[] = "\nkestrum: stopping cleanly; Ctrl-C again ends it at once\n";
    if (signal == SIGINT) [[maybe_unused]]
      ssize_t told = write(STDERR_FILENO, first, sizeof first - 1);
    return;
  }
  // Nothing of it is half done that would have to be put in order.
  constexpr char words[] = "kestrum: stopped, as asked\n";
  [[maybe_unused]] ssize_t told = write(STDERR_FILENO, words, sizeof words - 1);
  _exit(exit_code_of(ErrorKind::stopped));
}

const char* phase_word(Phase phase) {
  switch (phase) {
    case Phase::scanning:
      return "scanning";
    case Phase::sampling:
      return "compressing a sample";
    case Phase::copying:
      return "copying";
    case Phase::sealing:
      return "sealing";
    case Phase::checking:
      return "checking";
    case Phase::restoring:
      return "restoring";
    case Phase::mending:
      return "mending";
    case Phase::folding:
      return "folding";
  }
  return "";
}

// The end of a long path says more than its start. Counts code points, so that a name is not cut within a
// letter.
std::string shortened(const std::string& text, std::size_t width) {
  auto starts = [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; };
  std::size_t length = static_cast<std::size_t>(std::count_if(text.begin(), text.end(), starts));
  if (length <= width) return text;
  if (width < 4) return {};
  std::size_t drop = length - width + 3;
  std::size_t at = 0;
  for (; at < text.size() && (drop > 0 || !starts(text[at])); ++at) {
    if (starts(text[at])) --drop;
  }
  return "..." + text.substr(at);
}

constexpr std::uint64_t large_file = 64u << 20;

}  // namespace

RunControl& process_control() {
  return control;
}

StopsItself::StopsItself() {
  ++stopping_itself;
}
StopsItself::~StopsItself() {
  --stopping_itself;
}

void catch_stop_signals() {
  struct sigaction action {};
  action.sa_handler = ask_stop;
  for (int signal : {SIGINT, SIGTERM, SIGHUP}) sigaction(signal, &action, nullptr);
  std::signal(SIGPIPE, SIG_IGN);
}

Progress::Progress(const Environment& environment, bool quiet, bool all)
    : environment_(environment), quiet_(quiet), all_(all), living_(environment.err_is_terminal()) {
  phase_start_ = last_draw_ = std::chrono::steady_clock::now();
}

Progress::~Progress() {
  finish();
}

void Progress::phase_begins(Phase phase, const PhaseTotals& totals) {
  clear();
  phase_ = phase;
  any_phase_ = true;
  totals_ = totals;
  bytes_ = files_ = file_size_ = file_done_ = 0;
  file_.clear();
  phase_start_ = last_draw_ = std::chrono::steady_clock::now();
  if (quiet_) return;
  if (living_) {
    draw(phase_start_);
  } else {
    err("{}\n", phase_word(phase));
  }
}

void Progress::file_begins(const std::string& path, std::uint64_t size) {
  file_ = path;
  file_size_ = size;
  file_done_ = 0;
  tick();
}

void Progress::advanced(std::uint64_t bytes, std::uint64_t files) {
  bytes_ += bytes;
  files_ += files;
  file_done_ += bytes;
  tick();
}

void Progress::tick() {
  if (quiet_ || !any_phase_) return;
  Time now = std::chrono::steady_clock::now();
  if (now - last_draw_ < (living_ ? std::chrono::milliseconds(100) : std::chrono::milliseconds(10000)))
    return;
  draw(now);
}

void Progress::draw(Time now) {
  last_draw_ = now;
  std::string text = line_text(now);
  if (living_) {
    err("\r\033[K{}", text);
    std::fflush(stderr);
    drawn_ = true;
  } else {
    err("{}\n", text);
  }
}

std::string Progress::line_text(Time now) const {
  double seconds = std::chrono::duration<double>(now - phase_start_).count();
  double speed = seconds > 0.5 ? static_cast<double>(bytes_) / seconds : 0;
  std::string text = phase_word(phase_);
  if (phase_ == Phase::sealing) return text;
  if (totals_.bytes > 0) {
    text += fmt::format(" {:3.0f} %", std::min(100.0, 100.0 * static_cast<double>(bytes_) /
                                                          static_cast<double>(totals_.bytes)));
  }
  text += "  " + size_text(bytes_);
  if (totals_.bytes > 0) text += " of " + size_text(totals_.bytes);
  if (files_ > 0) text += ", " + count_text(files_, "file");
  if (speed > 0) text += ", " + size_text(static_cast<std::uint64_t>(speed)) + "/s";
  if (speed > 0 && totals_.bytes > bytes_ && seconds > 2) {
    auto left = std::chrono::duration<double>(static_cast<double>(totals_.bytes - bytes_) / speed);
    text += ", " +
            duration_text(std::chrono::duration_cast<std::chrono::nanoseconds>(
                std::chrono::seconds(static_cast<std::int64_t>(left.count()) + 1))) +
            " left";
  }
  if (problems_ > 0) text += ", " + count_text(problems_, "problem");
  if (file_.empty()) return text;
  std::string part =
      file_size_ >= large_file
          ? fmt::format(" ({:.0f} %)", std::min(100.0, 100.0 * static_cast<double>(file_done_) /
                                                           static_cast<double>(file_size_)))
          : "";
  std::size_t width = living_ ? environment_.width() - 1 : 200;
  if (text.size() + part.size() + 12 < width) {
    text += "  " + shortened(printable(file_), width - text.size() - part.size() - 2) + part;
  } else if (text.size() + part.size() <= width) {
    text += part;  // how far a large file is says more than its name
  }
  return text;
}

void Progress::clear() {
  if (drawn_) err("\r\033[K");
  drawn_ = false;
}

void Progress::finish() {
  clear();
  std::fflush(stderr);
}

void Progress::problem(const Problem& problem) {
  ++problems_;
  clear();
  if (all_ || problems_ <= problems_shown) {
    err("{}problem: {}{}\n", environment_.err_colour() ? "\033[33m" : "", problem_text(problem),
        environment_.err_colour() ? "\033[0m" : "");
  } else if (problems_ == problems_shown + 1) {
    err("and more of them: --list shows all\n");
  }
}

void Progress::note(const std::string& text) {
  if (quiet_) return;
  clear();
  err("{}\n", text);
}

bool Listeners::wants_totals() const {
  return std::any_of(listeners_.begin(), listeners_.end(),
                     [](const Observer* one) { return one->wants_totals(); });
}
void Listeners::run_begins(const std::string& log_file) {
  for (Observer* one : listeners_) one->run_begins(log_file);
}
void Listeners::phase_begins(Phase phase, const PhaseTotals& totals) {
  for (Observer* one : listeners_) one->phase_begins(phase, totals);
}
void Listeners::file_begins(const std::string& path, std::uint64_t size) {
  for (Observer* one : listeners_) one->file_begins(path, size);
}
void Listeners::advanced(std::uint64_t bytes, std::uint64_t files) {
  for (Observer* one : listeners_) one->advanced(bytes, files);
}
void Listeners::problem(const Problem& problem) {
  for (Observer* one : listeners_) one->problem(problem);
}
void Listeners::note(const std::string& text) {
  for (Observer* one : listeners_) one->note(text);
}

}  // namespace kestrum
