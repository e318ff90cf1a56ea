// Bringing files back.
#pragma once

#include <chrono>

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

// Of what is restored below `from`, as it was, goes below `to` instead.
struct PathMap {
  TreePath from, to;
};

// Whom restored files belong to.
enum class OwnersAs {
  names,    // the account here of the name that the owner had there; where there is none, of the number
  numbers,  // whoever has the number here
  mine,     // whoever restores them
};
std::optional<OwnersAs> parse_owners(std::string_view name);  // "name", "number", "mine"

// What the files go into.
enum class RestoreInto {
  folder,   // `target`
  archive,  // `target` is a file that is made: .zip or .tar.zst, which other programs open
  stream,   // the one file that is picked is written to `stream`
};

struct RestoreRequest {
  std::vector<WantedPath> paths;    // what was picked; the root folder for everything
  std::vector<WantedPath> without;  // what is taken out of it again; one of `paths` below counts all the same
  std::string target;               // a folder; "/" for in place
  bool in_place = false;            // every file to where it was
  RestoreInto into = RestoreInto::folder;
  int stream = -1;           // an open file
  std::vector<PathMap> map;  // with in_place or Layout::path; the longest one that fits holds
  bool nearest = false;      // what the point has no good copy of comes from the nearest one that has
  bool digests = false;      // tell the digest of each file
  bool with_set_id = false;  // set-id bits of files also where they are not restored in place by root
  OwnersAs owners = OwnersAs::names;
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
  Sequence point = 0;  // that it comes from
  std::string
      sha256;  // of a file's content (FIPS 180-4), hexadecimal; empty where it was not asked for or read
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
  std::uint64_t nearest = 0;      // of what was restored, from another point than the one that was asked for
  std::uint64_t set_id_left = 0;  // files that lost their set-id bits
  std::uint64_t archive_bytes = 0;  // of the file that was made
  bool owners_kept_back = false;    // not root: files belong to the person who restored them
  bool unproved_kept_back = false;  // owners, set-id bits, device nodes: anybody could have made the set
  // Owners that are no accounts of this machine, with the numbers that their files got.
  std::map<std::string, std::uint32_t> unknown_owners;
  bool damaged = false;  // something was not restored because the archive is damaged
  std::chrono::nanoseconds duration{};
  std::vector<Problem> problems;
};

// Calls `item` for each thing restored, in order. What concerns one file is a problem of the result; throws
// Error for the rest: usage for a path that is not in the point; full, before anything is written where that
// is known (a dry restore says it in its result); Stopped.
RestoreResult restore(LookSession& subject, const PointWish& wish, const RestoreRequest& request,
                      Observer& observer, RunControl& control,
                      const std::function<void(const RestoredItem&)>& item);

// The same over several drives, of which `subject` is one: what `nearest` takes may lie on any of them.
RestoreResult restore(std::vector<LookSession>& subjects, std::size_t subject, const PointWish& wish,
                      const RestoreRequest& request, Observer& observer, RunControl& control,
                      const std::function<void(const RestoredItem&)>& item);

// The same from a point that is open already; `nearest` is not followed.
RestoreResult restore(OpenPoint& point, const RestoreRequest& request, Observer& observer,
                      RunControl& control, const std::function<void(const RestoredItem&)>& item);

}  // namespace kestrum
