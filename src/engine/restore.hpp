// Bringing files back.
#pragma once

#include "engine/look.hpp"
#include "target/attributes.hpp"
#include "target/placed_file.hpp"

namespace kestrum {

enum class Layout {
  path,    // the full path under the target
  picked,  // from what was picked: /srv/ringing/2026 picked gives 2026/...
  flat,    // no folders
};
std::optional<Layout> parse_layout(std::string_view name);

struct RestoreRequest {
  std::vector<WantedPath> paths;  // what was picked; the root folder for everything
  std::string target;             // a folder; "/" for in place
  bool in_place = false;          // every file to where it was
  Clash clash = Clash::keep_both;
  Layout layout = Layout::picked;
  bool devices = false;  // with in_place: write images of devices back over the devices
  bool with_owners =
      false;  // owners, set-id bits and device nodes also from a set that anybody could have made
  std::optional<OwnerAccount> owner;  // everything is to belong to this account, whoever had it
  bool dry = false;                   // write nothing, tell what would happen
};

// What became of one thing; of a dry restore, what would.
enum class RestoreFate {
  put,       // nothing was there
  beside,    // under a second name, beside what is there
  replaces,  // what was there
  kept,      // what is there stays, by the clash rule
  same,      // what is there is the same already
  renamed,   // the file system cannot hold its name
  parts,     // the file system takes no file of that size
  device,    // written over the device that it is an image of
};
// As a word ("replaces") and for people ("replaces what was there"; empty for put).
std::string_view fate_word(RestoreFate fate);
std::string_view fate_text(RestoreFate fate);

struct RestoredItem {
  TreePath path;
  std::string placed;  // where, on this machine
  EntryType type = EntryType::file;
  std::uint64_t size = 0;
  RestoreFate fate = RestoreFate::put;
};

// On one file system that is written to.
struct RestoreRoom {
  std::uint64_t needed = 0;  // bytes, at least
  std::uint64_t free = 0;    // for everybody
  std::uint64_t most = 0;    // for this user: root may take what is reserved
  bool fits() const { return needed <= most; }
};

struct RestoreResult {
  SetFacts point;
  std::uint64_t files = 0, folders = 0, others = 0, bytes = 0;
  std::uint64_t kept = 0, same = 0;  // left alone: because of the clash rule, because it is there already
  std::uint64_t beside = 0, replaced = 0;  // of what was restored
  std::optional<RestoreRoom> room;         // where it is tightest; none: nothing is to be written
  bool owners_kept_back = false;           // not root: files belong to the person who restored them
  bool unproved_kept_back = false;  // owners, set-id bits, device nodes: anybody could have made the set
  // Owners that are no accounts of this machine, with the numbers that their files got.
  std::map<std::string, std::uint32_t> unknown_owners;
  bool damaged = false;  // something was not restored because the archive is damaged
  std::vector<Problem> problems;
};

// Calls `item` for each thing restored, in order. What concerns one file is a problem of the result; throws
// Error for the rest: usage for a path that is not in the point; full, before anything is written where that
// is known (a dry restore says it in its result); Stopped.
RestoreResult restore(LookSession& subject, const PointWish& wish, const RestoreRequest& request,
                      Observer& observer, RunControl& control,
                      const std::function<void(const RestoredItem&)>& item);

// The same from a point that is open already.
RestoreResult restore(OpenPoint& point, const RestoreRequest& request, Observer& observer,
                      RunControl& control, const std::function<void(const RestoredItem&)>& item);

}  // namespace kestrum
