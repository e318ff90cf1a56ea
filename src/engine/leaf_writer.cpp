#include "engine/leaf_writer.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>

#include "archive/content_list.hpp"
#include "base/text.hpp"

namespace kestrum {

bool LeafWriter::is_to_be_written(const Entry& entry, const TreePath& place, const std::string& name) {
  if (entry.type == EntryType::socket) return false;
  bool has_data = std::any_of(entry.content.begin(), entry.content.end(),
                              [](const ContentItem& item) { return item.kind != ItemKind::hole; });
  if (entry.incomplete && !has_data && entry.size > 0) {
    state_.problem(entry.path, "restore",
                   "it could not be read when the point was made: there is nothing to restore");
    return false;
  }
  if (entry.type == EntryType::device_image && state_.request.in_place) {
    restore_device(entry);
    return false;
  }
  if (state_.request.dry) state_.done(entry, place.parent().child(name), "");
  return !state_.request.dry;
}

std::optional<LeafWriter::Spot> LeafWriter::choose_spot(const Entry& entry, const TreePath& place,
                                                        const std::string& name) {
  Spot spot;
  spot.folder = state_.target->real(place.parent());
  spot.fd = state_.target->open(spot.folder);
  spot.name = name;
  spot.placement.name = name;
  if (!state_.target->names().held(spot.folder, name)) return spot;
  std::optional<Placement> placement =
      placement_by(state_.request.clash, spot.fd, name, entry.modified, state_.stamp);
  if (!placement) {
    ++state_.result.kept;
    state_.tell(entry, spot.folder.child(name), "kept what is there");
    return std::nullopt;
  }
  spot.placement = *placement;
  return spot;
}

void LeafWriter::restore(const Entry& entry, const TreePath& place) {
  std::string name(place.name());
  if (entry.incomplete) name += ".incomplete";
  if (!is_to_be_written(entry, place, name)) return;
  std::string earlier_name;
  FileHandle earlier = open_earlier(entry, earlier_name);
  std::optional<Spot> spot = choose_spot(entry, place, name);
  if (!spot) return;
  TemporaryFile file(spot->fd);
  if (earlier) {
    int code = file.create_hard_link(earlier.get(), earlier_name);
    if (code == 0) return finish(entry, file, *spot);
    state_.lose(entry.path, "link to its other name",
                system_reason(code) +
                    (entry.type == EntryType::file ? "; it is a file of its own" : "; it is one of its own"));
  }
  if (entry.has_content()) {
    check_target(file.create_file(), "create the file", state_.request);
    if (!write_content(entry, file)) return write_in_parts(entry, *spot, file.largest());
    state_.apply(entry, {spot->fd, file.name(), file.handle(), false});
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
  auto note = [&](int code) {
    fits = fits && code != EFBIG;
    if (code != EFBIG) check_target(code, "write", state_.request);
  };
  walk_content(entry.content, state_.point.reader(), [&](const ContentItem& part) {
    if (!fits) return;
    state_.control.checkpoint();
    note(part.kind == ItemKind::hole ? file.skip(part.length)
                                     : file.write(state_.point.reader().view(part.ref()).content));
    if (fits) state_.observer.advanced(part.length, 0);
  });
  if (fits) note(file.end());
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
  std::optional<TemporaryFile> file;
  std::uint64_t in_part = 0;
  unsigned parts = 0;
  auto end_part = [&] {
    if (!file) return;
    check_target(file->end(), "write", state_.request);
    state_.apply(entry, {spot.fd, file->name(), file->handle(), false});
    check_target(file->close(), "write", state_.request);
    std::string number = std::to_string(++parts);
    Spot part = spot;
    part.placement = {
        stem + ".part-" + std::string(3 - std::min<std::size_t>(3, number.size()), '0') + number, false};
    part.name = part.placement.name;
    put(entry, *file, part);
    file.reset();
    in_part = 0;
  };
  walk_content(entry.content, state_.point.reader(), [&](const ContentItem& item) {
    state_.control.checkpoint();
    std::optional<ChunkView> chunk;
    if (item.kind != ItemKind::hole) chunk = state_.point.reader().view(item.ref());
    for (std::uint64_t done = 0; done < item.length;) {
      if (!file) {
        file.emplace(spot.fd);
        check_target(file->create_file(), "create the file", state_.request);
      }
      std::uint64_t now = std::min(item.length - done, part_bytes - in_part);
      check_target(chunk ? file->write(chunk->content.subspan(static_cast<std::size_t>(done),
                                                              static_cast<std::size_t>(now)))
                         : file->skip(now),
                   "write", state_.request);
      done += now;
      in_part += now;
      if (in_part == part_bytes) end_part();
    }
  });
  end_part();
  std::string name = printable(stem);
  state_.problem(entry.path, "restore",
                 "it is larger than the file system there takes in one file: it is in " +
                     count_text(parts, "part") + ", which put together are the file: cat '" + name +
                     ".part-'* > '" + name + "'");
  state_.done(entry, spot.folder.child(stem + ".part-001"), "in " + count_text(parts, "part"));
}

FileHandle LeafWriter::open_earlier(const Entry& entry, std::string& name) {
  if (!entry.several_names || entry.type == EntryType::folder) return {};
  auto earlier = links_.find({entry.filesystem, entry.inode});
  if (earlier == links_.end()) return {};
  name = std::string(earlier->second.name());
  return FileHandle(fcntl(state_.target->open(earlier->second.parent()), F_DUPFD_CLOEXEC, 0));
}

std::string LeafWriter::put(const Entry& entry, TemporaryFile& file, Spot& spot) {
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
                                       state_.target->describe(spot.folder.child(spot.placement.name)) +
                                       ": " + system_reason(code));
  }
  if (spot.placement.replaces) state_.target->names().replaced(spot.folder, spot.placement.name);
  std::string& name = spot.placement.name;
  if (trouble.empty() && (name.ends_with('.') || name.ends_with(' ')) && !lists_name(spot.fd, name)) {
    trouble = "the file system there cuts the end of its name off: it is in ";
    while (name.ends_with('.') || name.ends_with(' ')) name.pop_back();
  }
  if (!trouble.empty())
    state_.problem(entry.path, "restore",
                   trouble + state_.target->describe(spot.folder.child(spot.placement.name)));
  if (!trouble.empty()) return "under another name";
  if (spot.placement.replaces) return "replaced what was there";
  return name != spot.name ? "beside the one that is there" : "";
}

void LeafWriter::finish(const Entry& entry, TemporaryFile& file, const Spot& spot) {
  Spot last = spot;
  std::string note = put(entry, file, last);
  TreePath placed = last.folder.child(last.placement.name);
  if (entry.several_names && entry.type != EntryType::folder)
    links_.try_emplace({entry.filesystem, entry.inode}, placed);
  if (entry.incomplete)
    state_.problem(entry.path, "restore",
                   "it could only be read in part when the point was made: what is missing are zeros in " +
                       printable(last.placement.name));
  state_.done(entry, placed, note);
}

// Where the image came from, over what is on the device now.
void LeafWriter::restore_device(const Entry& entry) {
  if (!state_.request.devices) {
    state_.problem(
        entry.path, "restore",
        "it is the image of a device: restore it into a folder with --to, or write it back over the "
        "device with --devices");
    return;
  }
  if (entry.incomplete) {
    state_.problem(entry.path, "restore",
                   "the image is incomplete and is not written to the device; restore it into a folder with "
                   "--to");
    return;
  }
  if (!state_.request.dry) {
    DeviceTarget device(entry.path.absolute(), entry.size);
    try {
      write_device(entry, device);
    } catch (const Error& error) {
      throw Error(error.kind(),
                  std::string(error.what()) + "; the device is overwritten in part and of no use as it is",
                  "write the image back again, or restore it into a folder with --to");
    }
  }
  state_.done(entry, entry.path, "written over the device");
}

void LeafWriter::write_device(const Entry& entry, DeviceTarget& device) {
  state_.observer.file_begins(entry.path.absolute(), entry.size);
  walk_content(entry.content, state_.point.reader(), [&](const ContentItem& part) {
    state_.control.checkpoint();
    check_target(part.kind == ItemKind::hole ? device.zeros(part.length)
                                             : device.write(state_.point.reader().view(part.ref()).content),
                 "write to the device", state_.request);
    state_.observer.advanced(part.length, 0);
  });
  check_target(device.close(), "write to the device", state_.request);
}

}  // namespace kestrum
