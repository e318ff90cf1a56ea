// open.
#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <filesystem>

#include "base/exit_codes.hpp"
#include "base/text.hpp"
#include "cli/print.hpp"
#include "cli/progress.hpp"
#include "cli/verbs.hpp"
#include "mount/point_mount.hpp"
#include "tell/documents.hpp"
#include "tell/open_document.hpp"

namespace kestrum {
namespace {

std::string folder_of(const std::string& text) {
  std::string path = std::filesystem::absolute(text).lexically_normal().string();
  while (path.size() > 1 && path.ends_with('/')) path.pop_back();
  return path;
}

void print_open(const Arguments& arguments, const std::string& on, const std::vector<ShownPoint>& points) {
  if (arguments.has("json")) {
    std::vector<OpenedPoint> opened;
    for (const ShownPoint& point : points) opened.push_back({point.facts, point.name});
    print_document(open_document(on, opened));
    return;
  }
  if (points.size() == 1 && points[0].name.empty()) {
    out("Open on {}: point {}, as it was.\n", printable(on), point_text(points[0].facts));
  } else {
    out("Open on {}: {}, a folder each.\n", printable(on), count_text(points.size(), "point"));
  }
  out_lines("Close it with:  kestrum open --close {}\n", shell_word(printable(on)));
}

// Who waits for the end of a pipe that we were given would wait as long as this process lives.
void keep_only(int fd) {
  constexpr int first = STDERR_FILENO + 1;
  if (fd > first) close_range(first, static_cast<unsigned>(fd) - 1, 0);
  close_range(static_cast<unsigned>(fd) + 1, ~0U, 0);
}

// Answers from now on without a terminal; whoever waits for it is told.
void go_behind(int ready) {
  setsid();
  const int nothing = open("/dev/null", O_RDWR | O_CLOEXEC);
  for (const int fd : {STDIN_FILENO, STDOUT_FILENO, STDERR_FILENO}) dup2(nothing, fd);
  const char word = 'r';
  if (write(ready, &word, 1) != 1) _exit(exit_code_of(ErrorKind::failed));
  close(ready);
}

// `ready`: where the process in front waits; -1: this one is in front.
int serve(const Arguments& arguments, const Environment& environment, int ready) {
  std::vector<LookSession> subjects = open_subjects(arguments, environment, arguments.words()[0]);
  const std::string on = folder_of(*arguments.value("on"));
  std::vector<ShownPoint> points;
  if (arguments.has("at") || subjects[0].named_set()) {
    const DrivePoint chosen = choose_drive(subjects, arguments.value("at"), environment.clock().now());
    points.push_back(
        {chosen.session, choose_point(subjects[chosen.session].proved_sets(), chosen.wish).facts(), {}});
  } else {
    points = every_point(subjects);
  }
  StopsItself stops_itself;
  const auto is_ready = [&] {
    print_open(arguments, on, points);
    std::fflush(stdout);
    if (ready >= 0) go_behind(ready);
  };
  const MountEnd end =
      mount_points(subjects, points, on, process_control(), is_ready,
                   [](const std::string& text) { err("note: it does not read: {}\n", text); });
  if (end == MountEnd::drive_gone) {
    err("The drive went away: {} is closed.\n", printable(on));
    return exit_code_of(ErrorKind::no_destination);
  }
  return exit_done;
}

int serve_behind(const Arguments& arguments, const Environment& environment) {
  int ends[2];
  if (pipe2(ends, O_CLOEXEC) != 0) throw system_error("make", "a pipe", errno);
  const pid_t child = fork();
  if (child < 0) throw system_error("start", "a process of its own", errno);
  if (child == 0) {
    keep_only(ends[1]);
    return serve(arguments, environment, ends[1]);
  }
  close(ends[1]);
  char word = 0;
  const bool ready = read(ends[0], &word, 1) == 1;
  close(ends[0]);
  if (ready) _exit(exit_done);  // what is printed was printed by the one behind
  int status = 0;
  waitpid(child, &status, 0);
  _exit(WIFEXITED(status) ? WEXITSTATUS(status) : exit_code_of(ErrorKind::failed));
}

int open_points(const Arguments& arguments, const Environment& environment) {
  if (const std::optional<std::string> on = arguments.value("close")) {
    if (!arguments.words().empty() || arguments.has("on"))
      throw Error(ErrorKind::usage, "--close closes what is open on a folder, and opens nothing",
                  "kestrum open --close " + shell_word(*on));
    close_mount(*on);
    if (arguments.has("json")) {
      print_document(done_document("closed", folder_of(*on)));
    } else {
      out("Closed.\n");
    }
    return exit_done;
  }
  if (arguments.words().empty() || !arguments.has("on"))
    throw Error(ErrorKind::usage, "say what to open, and on which folder: open SUBJECT --on DIR",
                "see: kestrum help open");
  return arguments.has("wait") ? serve(arguments, environment, -1) : serve_behind(arguments, environment);
}

}  // namespace

Verb open_verb() {
  return {
      {"open",
       "SUBJECT",
       "show points as folders that can only be read",
       std::string("For a file manager, and for programs that open what is in them: the point of --at, or "
                   "without it all points, a folder each by their dates. It stays until it is closed or the "
                   "drive goes away; opened by root, everybody may look, as far as the files' own modes "
                   "say.\n") +
           subject_words + "\n" + when_words,
       0,
       1,
       with_subject_options({{"at", "WHEN", "only this point (usual: all, a folder each)"},
                             {"on", "DIR", "the folder to show them on; it must be empty"},
                             {"wait", "", "stay in front until it is closed; Ctrl-C closes it"},
                             {"close", "DIR", "close what is open on that folder"}}),
       {"kestrum open wardens --on /tmp/back", "kestrum open wardens --at yesterday --on /tmp/back",
        "kestrum open --close /tmp/back"}},
      open_points};
}

}  // namespace kestrum
