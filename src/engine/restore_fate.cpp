#include "engine/restore_fate.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <algorithm>

#include "archive/content_list.hpp"
#include "base/open_beneath.hpp"
#include "engine/same_content.hpp"

namespace kestrum {
namespace {

bool same_link(const Entry& entry, int folder, const std::string& name, const struct stat& there) {
  std::string target(static_cast<std::size_t>(there.st_size) + 1, '\0');
  const ssize_t length = readlinkat(folder, name.c_str(), target.data(), target.size());
  return length >= 0 &&
         std::string_view(target.data(), static_cast<std::size_t>(length)) == entry.link_target;
}

bool same_as_there(RestoreState& state, const Entry& entry, int folder, const std::string& name) {
  struct stat there {};
  if (fstatat(folder, name.c_str(), &there, AT_SYMLINK_NOFOLLOW) != 0) return false;
  if (entry.type == EntryType::symlink)
    return S_ISLNK(there.st_mode) && same_link(entry, folder, name, there);
  if (entry.type == EntryType::fifo) return S_ISFIFO(there.st_mode);
  if (entry.type != EntryType::file || entry.incomplete || !S_ISREG(there.st_mode)) return false;
  if (static_cast<std::uint64_t>(there.st_size) != entry.size) return false;
  FileHandle file = open_beneath(folder, name, O_RDONLY);
  return file && same_content(state.reader(), entry, file.get(), state.control);
}

// Bytes that a file takes, without its holes.
std::uint64_t data_bytes(RestoreState& state, const Entry& entry) {
  std::uint64_t sum = 0;
  try {
    walk_content(entry.content, state.reader(), [&](const ContentItem& item) {
      if (item.kind != ItemKind::hole) sum += item.length;
    });
  } catch (const Error& error) {
    if (!does_not_read(error)) throw;
  }
  return sum;
}

}  // namespace

namespace {

// What may be left alone: to replace it would change nothing, or only what a person who keeps both has
// anyway.
bool is_there_already(RestoreState& state, const Entry& entry, int folder, const std::string& name) {
  struct stat there {};
  if (fstatat(folder, name.c_str(), &there, AT_SYMLINK_NOFOLLOW) != 0) return false;
  if (state.request.clash != Clash::keep_both) {
    constexpr mode_t permission_bits = 07777;
    const bool same_time =
        there.st_mtim.tv_sec == entry.modified.seconds && there.st_mtim.tv_nsec == entry.modified.nanoseconds;
    const bool same_mode =
        entry.type == EntryType::symlink || (there.st_mode & permission_bits) == entry.mode;
    const bool as_it_was = same_mode && state.has_its_owner(entry, there.st_uid, there.st_gid);
    if (!same_time || (state.request.clash == Clash::replace && !as_it_was)) return false;
  }
  return same_as_there(state, entry, folder, name);
}

}  // namespace

Decided decide_placement(RestoreState& state, const Entry& entry, int folder, const std::string& name) {
  const Clash clash = state.request.clash;
  if (clash != Clash::keep_existing && is_there_already(state, entry, folder, name))
    return {RestoreFate::same, {name, false}};
  // An earlier restore of the same has put it there already: then this one goes on where that ended.
  struct stat there {};
  for (unsigned n = 1; clash == Clash::keep_both; ++n) {
    const std::string beside = nth_name_beside(name, state.stamp, n);
    if (fstatat(folder, beside.c_str(), &there, AT_SYMLINK_NOFOLLOW) != 0) break;
    if (same_as_there(state, entry, folder, beside)) return {RestoreFate::same, {beside, false}};
  }
  std::optional<Placement> placement = placement_by(clash, folder, name, entry.modified, state.stamp);
  if (!placement) return {RestoreFate::kept, {name, false}};
  if (placement->replaces) return {RestoreFate::replaces, *placement};
  return {placement->name == name ? RestoreFate::put : RestoreFate::beside, *placement};
}

RestoreRoom* RoomNeeded::room_at(int folder) {
  struct stat status {};
  if (fstat(folder, &status) != 0) return nullptr;
  auto [room, is_new] = rooms_.try_emplace(status.st_dev);
  struct statvfs space {};
  if (is_new && fstatvfs(folder, &space) == 0) {
    room->second.free = space.f_bavail * space.f_frsize;
    room->second.most = geteuid() == 0 ? space.f_bfree * space.f_frsize : room->second.free;
  }
  return &room->second;
}

// What the restore takes besides what is there already under that name.
std::uint64_t RoomNeeded::bytes_for(const Entry& entry, int folder, const std::string& name) {
  const std::uint64_t bytes = data_bytes(state_, entry);
  struct stat there {};
  if (folder < 0 || fstatat(folder, name.c_str(), &there, AT_SYMLINK_NOFOLLOW) != 0) return bytes;
  const bool maybe_same = static_cast<std::uint64_t>(there.st_size) == entry.size;
  switch (state_.request.clash) {
    case Clash::keep_existing:
      return 0;
    case Clash::keep_both:
      return maybe_same ? 0 : bytes;
    case Clash::replace:
    case Clash::keep_newer:
      return bytes - std::min(bytes, static_cast<std::uint64_t>(there.st_blocks) * 512);
  }
  return bytes;
}

void RoomNeeded::add(const Entry& entry, const TreePath& place) {
  if (!entry.has_content()) return;
  try {
    const int folder = view_.folder(place.parent());
    RestoreRoom* room = room_at(folder >= 0 ? folder : view_.nearest(place.parent()));
    if (room != nullptr)
      room->needed += bytes_for(entry, view_.folder(place.parent()), std::string(place.name()));
  } catch (const Error& error) {
    if (error.kind() != ErrorKind::failed) throw;
  }
}

std::optional<RestoreRoom> RoomNeeded::tightest() const {
  std::optional<RestoreRoom> tightest;
  auto left = [](const RestoreRoom& room) {
    return static_cast<double>(room.most) - static_cast<double>(room.needed);
  };
  for (const auto& [device, room] : rooms_) {
    if (!tightest || left(room) < left(*tightest)) tightest = room;
  }
  return tightest;
}

}  // namespace kestrum
