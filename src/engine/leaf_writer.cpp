#include "engine/leaf_writer.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>

#include "archive/file_view.hpp"
#include "archive/sha256.hpp"
#include "base/text.hpp"
#include "calendar/local_time.hpp"
#include "engine/restore_fate.hpp"

namespace kestrum {

std::optional<LeafWriter::Spot> LeafWriter::choose_spot(const Entry& entry, const TreePath& place,
                                                        const std::string& name) {
  Spot spot;
  spot.folder = target_.real(place.parent());
  spot.fd = target_.open(spot.folder);
  spot.name = name;
  spot.placement.name = name;
  if (!target_.names().held(spot.folder, name)) return spot;
  const Decided decided = decide_placement(state_, entry, spot.fd, name);
  if (decided.fate == RestoreFate::kept || decided.fate == RestoreFate::same) {
    const bool same = decided.fate == RestoreFate::same;
    state_.done(entry, spot.folder.child(decided.placement.name), decided.fate,
                same ? state_.digest_of(entry) : std::string());
    return std::nullopt;
  }
  spot.placement = decided.placement;
  return spot;
}

void LeafWriter::restore(const Entry& entry, const TreePath& place) {
  LeafTask task = task_of(entry, state_);
  if (task == LeafTask::write_device) restore_device(entry);
  if (task != LeafTask::write) return;
  std::string earlier_name;
  FileHandle earlier = open_earlier(entry, earlier_name);
  std::optional<Spot> spot = choose_spot(entry, place, placed_name(entry, place));
  if (!spot) return;
  sha256_.clear();
  TemporaryFile file(spot->fd);
  if (earlier) {
    int code = file.create_hard_link(earlier.get(), earlier_name);
    if (code == 0) {
      if (const Earlier* const known = earlier_of(entry)) sha256_ = known->sha256;
      return finish(entry, file, *spot);
    }
    state_.lose(entry.path, "link to its other name",
                system_reason(code) +
                    (entry.type == EntryType::file ? "; it is a file of its own" : "; it is one of its own"));
  }
  if (entry.has_content()) {
    check_target(file.create_file(), "create the file", state_.request);
    if (!write_content(entry, file)) return write_in_parts(entry, *spot, file.largest());
    state_.apply(entry, {spot->fd, file.name(), file.handle(), false});
    // Else a power cut after the renaming could leave neither the old file nor the new one.
    if (spot->placement.replaces) check_target(file.flush(), "write", state_.request);
    check_target(file.close(), "write", state_.request);
  } else {
    write(entry, file, *spot);
  }
  finish(entry, file, *spot);
}

void LeafWriter::write(const Entry& entry, TemporaryFile& file, const Spot& spot) {
  switch (entry.type) {
    case EntryType::symlink:
      check_target(file.create_link(entry.link_target), "create the link", state_.request);
      break;
    case EntryType::fifo:
      check_target(file.create_node(S_IFIFO | 0600, 0, 0), "create the FIFO", state_.request);
      break;
    default: {
      if (!state_.trusts()) {
        state_.result.unproved_kept_back = true;
        throw Error(ErrorKind::failed,
                    "it is a device, and anybody could have made this set; --with-owners brings it back");
      }
      unsigned type = entry.type == EntryType::char_device ? S_IFCHR : S_IFBLK;
      check_target(file.create_node(type | 0600, entry.device_major, entry.device_minor),
                   "create the device node", state_.request);
      break;
    }
  }
  state_.apply(entry, {spot.fd, file.name(), -1, entry.type == EntryType::symlink});
}

bool LeafWriter::write_content(const Entry& entry, TemporaryFile& file) {
  state_.observer.file_begins(entry.path.absolute(), entry.size);
  bool fits = true;
  std::optional<Sha256> digest;
  if (state_.request.digests) digest.emplace();
  auto note = [&](int code) {
    fits = fits && code != EFBIG;
    if (code != EFBIG) check_target(code, "write", state_.request);
  };
  FileView(state_.reader(), entry).each(0, entry.size, [&](std::uint64_t length, ByteView content) {
    if (!fits) return;
    state_.control.checkpoint();
    note(content.empty() ? file.skip(length) : file.write(content));
    if (digest) content.empty() ? digest->zeros(length) : digest->update(content);
    if (fits) state_.observer.advanced(length, 0);
  });
  if (fits) note(file.end());
  if (digest) sha256_ = digest->finish();
  return fits;
}

// Several files of at most `part_bytes`, to be put together by whoever has a file system that takes the
// whole.
void LeafWriter::write_in_parts(const Entry& entry, const Spot& spot, std::uint64_t part_bytes) {
  // All parts have one stem of their own, so that putting them together by it is right.
  std::string stem = spot.placement.name;
  struct stat there {};
  for (unsigned n = 2; fstatat(spot.fd, (stem + ".part-001").c_str(), &there, AT_SYMLINK_NOFOLLOW) == 0; ++n)
    stem = spot.placement.name + " (" + std::to_string(n) + ")";
  unsigned parts = 0;
  FileView view(state_.reader(), entry);
  for (std::uint64_t at = 0; at < entry.size; at += part_bytes) {
    TemporaryFile file(spot.fd);
    check_target(file.create_file(), "create the file", state_.request);
    view.each(at, part_bytes, [&](std::uint64_t length, ByteView content) {
      state_.control.checkpoint();
      check_target(content.empty() ? file.skip(length) : file.write(content), "write", state_.request);
    });
    check_target(file.end(), "write", state_.request);
    state_.apply(entry, {spot.fd, file.name(), file.handle(), false});
    check_target(file.close(), "write", state_.request);
    std::string number = std::to_string(++parts);
    Spot part = spot;
    part.placement = {
        stem + ".part-" + std::string(3 - std::min<std::size_t>(3, number.size()), '0') + number, false};
    part.name = part.placement.name;
    put(entry, file, part);
  }
  std::string name = printable(stem);
  state_.problem(entry.path, "restore",
                 "it is larger than the file system there takes in one file: it is in " +
                     count_text(parts, "part") + ", which put together are the file: cat '" + name +
                     ".part-'* > '" + name + "'");
  state_.done(entry, spot.folder.child(stem + ".part-001"), RestoreFate::parts, state_.digest_of(entry));
}

const LeafWriter::Earlier* LeafWriter::earlier_of(const Entry& entry) const {
  // What another point has under that number may be another file.
  if (!entry.several_names || entry.type == EntryType::folder || &state_.source() != &state_.point)
    return nullptr;
  const auto earlier = links_.find({entry.filesystem, entry.inode});
  return earlier == links_.end() ? nullptr : &earlier->second;
}

FileHandle LeafWriter::open_earlier(const Entry& entry, std::string& name) {
  const Earlier* const earlier = earlier_of(entry);
  if (earlier == nullptr) return {};
  name = std::string(earlier->placed.name());
  return FileHandle(fcntl(target_.open(earlier->placed.parent()), F_DUPFD_CLOEXEC, 0));
}

RestoreFate LeafWriter::put(const Entry& entry, TemporaryFile& file, Spot& spot) {
  std::string trouble;
  int code = file.place(spot.placement);
  for (int attempt = 0; code != 0 && attempt < 4; ++attempt) {
    if (code == EEXIST) {
      spot.placement = {name_beside(spot.fd, spot.placement.name, state_.stamp), false};
    } else if (refuses_name(code)) {
      spot.placement = {substitute_name(spot.placement.name), false};
      trouble = "the file system there cannot hold its name; it is in ";
    } else {
      break;
    }
    code = file.place(spot.placement);
  }
  if (code != 0) {
    throw Error(ErrorKind::failed, "cannot put it in its place " +
                                       target_.describe(spot.folder.child(spot.placement.name)) + ": " +
                                       system_reason(code));
  }
  if (spot.placement.replaces) target_.names().replaced(spot.folder, spot.placement.name);
  std::string& name = spot.placement.name;
  if (trouble.empty() && (name.ends_with('.') || name.ends_with(' ')) && !lists_name(spot.fd, name)) {
    trouble = "the file system there cuts the end of its name off: it is in ";
    while (name.ends_with('.') || name.ends_with(' ')) name.pop_back();
  }
  if (!trouble.empty())
    state_.problem(entry.path, "restore", trouble + target_.describe(spot.folder.child(spot.placement.name)));
  if (!trouble.empty()) return RestoreFate::renamed;
  if (spot.placement.replaces) return RestoreFate::replaces;
  return name != spot.name ? RestoreFate::beside : RestoreFate::put;
}

void LeafWriter::finish(const Entry& entry, TemporaryFile& file, const Spot& spot) {
  Spot last = spot;
  const RestoreFate fate = put(entry, file, last);
  TreePath placed = last.folder.child(last.placement.name);
  const bool own_point = &state_.source() == &state_.point;
  if (entry.several_names && entry.type != EntryType::folder && own_point)
    links_.try_emplace({entry.filesystem, entry.inode}, Earlier{placed, sha256_});
  if (entry.carried_from)
    state_.problem(entry.path, "restore",
                   "it could not be read when the point was made: it is back as it was on " +
                       local_text(*entry.carried_from));
  if (entry.incomplete)
    state_.problem(entry.path, "restore",
                   "it could only be read in part when the point was made: what is missing are zeros in " +
                       printable(last.placement.name));
  state_.done(entry, placed, fate, sha256_);
}

// Where the image came from, over what is on the device now.
void LeafWriter::restore_device(const Entry& entry) {
  DeviceTarget device(entry.path.absolute(), entry.size);
  try {
    write_device(entry, device);
  } catch (const Error& error) {
    throw Error(error.kind(),
                std::string(error.what()) + "; the device is overwritten in part and of no use as it is",
                "write the image back again, or restore it into a folder with --to");
  }
  state_.done(entry, entry.path, RestoreFate::device);
}

void LeafWriter::write_device(const Entry& entry, DeviceTarget& device) {
  state_.observer.file_begins(entry.path.absolute(), entry.size);
  FileView(state_.reader(), entry).each(0, entry.size, [&](std::uint64_t length, ByteView content) {
    state_.control.checkpoint();
    check_target(content.empty() ? device.zeros(length) : device.write(content), "write to the device",
                 state_.request);
    state_.observer.advanced(length, 0);
  });
  check_target(device.close(), "write to the device", state_.request);
}

}  // namespace kestrum
