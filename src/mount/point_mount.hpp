// Points as read-only folders, for file managers and for programs that open what is in them.
#pragma once

#include "base/run_control.hpp"
#include "engine/session.hpp"

namespace kestrum {

// A point that is shown, and the name of its folder; of a single one, empty: the folder itself shows it.
struct ShownPoint {
  std::size_t session = 0;
  SetFacts facts;
  std::string name;
};
// All points of the sessions that count, each with a name by its date: "2027-03-14 20-30 point 12".
std::vector<ShownPoint> every_point(std::vector<LookSession>& sessions);

// Why it is shown no more.
enum class MountEnd { closed, stopped, drive_gone };

// Mounts them on the folder `on`, which must be there and empty, and answers until somebody closes it,
// `control` says stop, or a drive goes away. `ready` is called once it is there; `trouble` is told of what
// does not read, once for each file. By root everybody may look, by the modes that things have; else only the
// user who opened it. Nothing in it can be written, no program there gains rights, no device works. Every
// byte was authenticated before it is handed out. Throws Error: usage (no folder, not empty), failed (FUSE is
// not there).
MountEnd mount_points(std::vector<LookSession>& sessions, const std::vector<ShownPoint>& points,
                      const std::string& on, RunControl& control, const std::function<void()>& ready,
                      const std::function<void(const std::string&)>& trouble);

// Takes down what `mount_points` put there. Throws Error: usage when nothing is open there, busy when a
// program uses something in it.
void close_mount(const std::string& on);

}  // namespace kestrum
