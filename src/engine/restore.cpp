#include "engine/restore.hpp"

#include <fcntl.h>

#include <algorithm>
#include <cerrno>

#include "archive/content_list.hpp"
#include "base/text.hpp"
#include "engine/file_saver.hpp"
#include "engine/set_run.hpp"
#include "target/device_target.hpp"
#include "target/target_folder.hpp"

namespace kestrum {
namespace {

FileAttributes attributes_of(const Entry& entry, PointReader& reader) {
  FileAttributes out;
  out.mode = entry.mode;
  out.owner = entry.owner;
  out.group = entry.group;
  out.owner_name = entry.owner_name;
  out.group_name = entry.group_name;
  out.modified = entry.modified;
  std::vector<Attribute> list = entry.attributes;
  if (entry.attribute_chunk) {
    Bytes chunk = reader.fetch(*entry.attribute_chunk);
    ByteReader in(chunk);
    list = read_attributes(in);
    in.expect_end();
  }
  for (Attribute& attribute : list)
    out.extended.emplace_back(std::move(attribute.name), std::move(attribute.value));
  return out;
}

// "2027-03-14 20-30", fit for a file's name.
std::string stamp_of(Instant when) {
  std::string stamp = local_text(when);
  std::replace(stamp.begin(), stamp.end(), ':', '-');
  return stamp;
}

// What is picked, each once: what lies inside a picked folder is not restored twice.
std::vector<TreePath> reduced(std::vector<TreePath> paths) {
  std::sort(paths.begin(), paths.end());
  std::vector<TreePath> out;
  for (TreePath& path : paths) {
    if (out.empty() || !path.is_within(out.back())) out.push_back(std::move(path));
  }
  return out;
}

class Restorer {
 public:
  Restorer(OpenPoint& point, const RestoreRequest& request, Observer& observer,
           const std::function<void(const RestoredItem&)>& item)
      : point_(point),
        request_(request),
        observer_(observer),
        item_(item),
        stamp_(stamp_of(point.facts().started)) {
    result_.point = point.facts();
  }

  RestoreResult run() {
    std::vector<TreePath> picked = reduced(request_.paths);
    CatalogReader catalog = point_.catalog();
    PhaseTotals totals;
    for (const TreePath& path : picked) {
      if (path.is_root()) continue;
      if (!catalog.find(path)) throw no_such_path(point_, path);
    }
    if (observer_.wants_totals()) totals = count(picked);
    if (!request_.dry) target_.emplace(request_.target);
    observer_.phase_begins(Phase::restoring, totals);
    for (const TreePath& path : picked) restore_tree(path);
    leave_folders(TreePath());
    return std::move(result_);
  }

 private:
  struct OpenFolder {
    TreePath below;  // the target
    Entry entry;
  };

  PhaseTotals count(const std::vector<TreePath>& picked) {
    PhaseTotals totals;
    observer_.phase_begins(Phase::scanning, {});
    for (const TreePath& path : picked) {
      CatalogReader catalog = point_.catalog();
      catalog.seek(path);
      try {
        for (std::optional<Entry> entry = catalog.next(); entry && entry->path.is_within(path);
             entry = catalog.next()) {
          check_stop(observer_);
          totals.bytes += entry->size;
          ++totals.files;
        }
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::damage) throw;
      }
    }
    return totals;
  }

  void restore_tree(const TreePath& picked) {
    CatalogReader catalog = point_.catalog();
    bool whole_path = request_.in_place || request_.layout == Layout::path;
    if (whole_path && !request_.dry) restore_ancestors(catalog, picked);
    catalog.seek(picked);
    while (true) {
      check_stop(observer_);
      std::optional<Entry> entry;
      try {
        entry = catalog.next();
      } catch (const Error& error) {
        if (error.kind() != ErrorKind::damage) throw;
        report_gap(catalog, picked, error);
        if (!catalog.skip_damaged_page()) return;
        continue;
      }
      if (!entry || !entry->path.is_within(picked)) return;
      restore_entry(*entry, picked);
    }
  }

  // The folders above what was picked, so that those which must be created get their attributes too.
  void restore_ancestors(CatalogReader& catalog, const TreePath& picked) {
    TreePath at;
    for (const std::string& name : picked.components()) {
      at = at.child(name);
      if (at == picked) return;
      std::optional<Entry> entry = catalog.find(at);
      if (!entry || entry->type != EntryType::folder) return;
      leave_folders(at);
      bool created = false;
      target_->folder(at, true, &created);
      if (created) folders_.push_back({at, std::move(*entry)});
    }
  }

  void report_gap(const CatalogReader& catalog, const TreePath& picked, const Error& error) {
    CatalogReader::Gap gap = catalog.damaged_range();
    result_.damaged = true;
    problem(gap.from.is_within(picked) ? gap.from : picked, "list",
            std::string("a part of the list of files is damaged (") + error.what() +
                "): everything from here" +
                (gap.until ? " to " + printable(gap.until->absolute()) : std::string(" on")) +
                " is not restored");
  }

  void problem(const TreePath& path, const std::string& operation, const std::string& reason) {
    add_problem(result_.problems, observer_, {path.absolute(), operation, reason});
  }

  // Relative to the target.
  TreePath place_of(const Entry& entry, const TreePath& picked) const {
    if (request_.in_place || request_.layout == Layout::path) return entry.path;
    if (request_.layout == Layout::flat) return TreePath().child(entry.path.name());
    return entry.path.below(picked.is_root() ? picked : picked.parent());
  }

  void restore_entry(const Entry& entry, const TreePath& picked) {
    if (request_.layout == Layout::flat && !request_.in_place && entry.type == EntryType::folder) return;
    if (entry.path.is_root() && entry.type == EntryType::folder) return;
    TreePath place = place_of(entry, picked);
    leave_folders(place);
    try {
      if (entry.type == EntryType::folder) {
        restore_folder(entry, place);
      } else {
        restore_leaf(entry, place);
      }
    } catch (const Error& error) {
      if (error.kind() == ErrorKind::stopped || error.kind() == ErrorKind::full ||
          error.kind() == ErrorKind::key)
        throw;
      if (error.kind() == ErrorKind::damage) result_.damaged = true;
      problem(entry.path, "restore", error.what());
    }
    if (entry.has_content()) observer_.advanced(0, 1);
  }

  void restore_folder(const Entry& entry, const TreePath& place) {
    if (request_.dry) {
      ++result_.folders;
      return;
    }
    bool created = false;
    target_->folder(place, true, &created);
    // A folder that was there keeps its attributes, unless the person wants the state of the point.
    bool apply = created || (request_.clash == Clash::replace && !entry.above_source);
    if (apply) folders_.push_back({place, entry});
    ++result_.folders;
    if (created) tell(entry, place, "");
  }

  // Folders get their attributes when the walk has left them: writing into one changes its time.
  void leave_folders(const TreePath& next) {
    while (!folders_.empty() && !next.is_within(folders_.back().below)) {
      OpenFolder done = std::move(folders_.back());
      folders_.pop_back();
      try {
        int parent = target_->folder(done.below.parent(), false);
        apply(done.entry, {parent, std::string(done.below.name()), -1, false});
      } catch (const Error& error) {
        if (error.kind() == ErrorKind::damage) result_.damaged = true;
        problem(done.entry.path, "set the attributes of", error.what());
      }
    }
  }

  void apply(const Entry& entry, const TargetObject& object) {
    FileAttributes attributes;
    try {
      attributes = attributes_of(entry, point_.reader());
    } catch (const Error& error) {
      if (error.kind() != ErrorKind::damage) throw;
      result_.damaged = true;
      problem(entry.path, "restore the attributes of", error.what());
      Entry bare = entry;
      bare.attribute_chunk.reset();
      attributes = attributes_of(bare, point_.reader());
    }
    AttributeResult applied = apply_attributes(object, attributes, owners_);
    result_.owners_kept_back = result_.owners_kept_back || applied.owner_kept_back;
    for (const std::string& complaint : applied.complaints)
      problem(entry.path, "restore", "could not " + complaint);
  }

  void restore_leaf(const Entry& entry, const TreePath& place) {
    if (entry.type == EntryType::socket) return;
    bool has_data = std::any_of(entry.content.begin(), entry.content.end(),
                                [](const ContentItem& item) { return item.kind != ItemKind::hole; });
    if (entry.incomplete && !has_data && entry.size > 0) {
      problem(entry.path, "restore",
              "it could not be read when the point was made: there is nothing to restore");
      return;
    }
    if (entry.type == EntryType::device_image && request_.in_place) {
      restore_device(entry);
      return;
    }
    TreePath wanted = place;
    if (entry.incomplete) wanted = place.parent().child(std::string(place.name()) + ".incomplete");
    if (request_.dry) {
      finish_leaf(entry, wanted, "");
      return;
    }
    // A handle of our own: looking for another hard link's folder may close the target's.
    FileHandle folder(fcntl(target_->folder(place.parent(), true), F_DUPFD_CLOEXEC, 0));
    if (!folder) throw system_error("open", target_->describe(place.parent()), errno);
    std::optional<Placement> placement =
        choose_placement(folder.get(), std::string(wanted.name()), request_.clash, entry.modified, stamp_);
    if (!placement) {
      ++result_.kept;
      tell(entry, wanted, "kept what is there");
      return;
    }
    TemporaryFile file(folder.get());
    write_leaf(entry, file, folder.get());
    if (int code = file.place(*placement); code != 0) {
      throw Error(ErrorKind::failed,
                  "cannot put it in its place " + target_->describe(wanted) + ": " + system_reason(code));
    }
    TreePath placed = wanted.parent().child(placement->name);
    if (entry.several_names && entry.type == EntryType::file)
      links_.try_emplace({entry.filesystem, entry.inode}, placed);
    std::string note = placement->replaces                ? "replaced what was there"
                       : placement->name != wanted.name() ? "beside the one that is there"
                                                          : "";
    if (entry.incomplete)
      problem(entry.path, "restore",
              "it could only be read in part when the point was made: what is missing are zeros in " +
                  printable(placement->name));
    finish_leaf(entry, placed, note);
  }

  // Where the image came from, over what is on the device now.
  void restore_device(const Entry& entry) {
    if (!request_.devices) {
      problem(entry.path, "restore",
              "it is the image of a device: restore it into a folder with --to, or write it back over the "
              "device with --devices");
      return;
    }
    if (entry.incomplete) {
      problem(entry.path, "restore",
              "the image is incomplete and is not written to the device; restore it into a folder with --to");
      return;
    }
    if (!request_.dry) {
      DeviceTarget device(entry.path.absolute(), entry.size);
      try {
        write_device(entry, device);
      } catch (const Error& error) {
        throw Error(error.kind(),
                    std::string(error.what()) + "; the device is overwritten in part and of no use as it is",
                    "write the image back again, or restore it into a folder with --to");
      }
    }
    finish_leaf(entry, entry.path, "written over the device");
  }

  void write_device(const Entry& entry, DeviceTarget& device) {
    observer_.file_begins(entry.path.absolute(), entry.size);
    walk_content(entry.content, point_.reader(), [&](const ContentItem& part) {
      check_stop(observer_);
      fail(part.kind == ItemKind::hole ? device.zeros(part.length)
                                       : device.write(point_.reader().fetch(part.ref())),
           "write to the device");
      observer_.advanced(part.length, 0);
    });
    fail(device.close(), "write to the device");
  }

  void fail(int code, const char* what) {
    if (code == ENOSPC || code == EDQUOT)
      throw Error(ErrorKind::full, "there is no space left in " + printable(request_.target),
                  "free some, or restore to another drive");
    if (code != 0) throw Error(ErrorKind::failed, std::string("cannot ") + what + ": " + system_reason(code));
  }

  void write_leaf(const Entry& entry, TemporaryFile& file, int folder) {
    std::string name = file.name();
    switch (entry.type) {
      case EntryType::symlink:
        fail(file.create_link(entry.link_target), "create the link");
        break;
      case EntryType::fifo:
        fail(file.create_node(S_IFIFO | 0600, 0, 0), "create the FIFO");
        break;
      case EntryType::char_device:
        fail(file.create_node(S_IFCHR | 0600, entry.device_major, entry.device_minor),
             "create the device node");
        break;
      case EntryType::block_device:
        fail(file.create_node(S_IFBLK | 0600, entry.device_major, entry.device_minor),
             "create the device node");
        break;
      default:
        if (link_to_earlier(entry, file)) return;
        fail(file.create_file(), "create the file");
        write_content(entry, file);
        break;
    }
    apply(entry, {folder, name, -1, entry.type == EntryType::symlink});
  }

  // A further name of a file that this restore has written already.
  bool link_to_earlier(const Entry& entry, TemporaryFile& file) {
    if (!entry.several_names) return false;
    auto earlier = links_.find({entry.filesystem, entry.inode});
    if (earlier == links_.end()) return false;
    int folder = target_->folder(earlier->second.parent(), false);
    return file.create_hard_link(folder, std::string(earlier->second.name())) == 0;
  }

  void write_content(const Entry& entry, TemporaryFile& file) {
    observer_.file_begins(entry.path.absolute(), entry.size);
    walk_content(entry.content, point_.reader(), [&](const ContentItem& part) {
      check_stop(observer_);
      if (part.kind == ItemKind::hole) {
        fail(file.skip(part.length), "write");
      } else {
        fail(file.write(point_.reader().fetch(part.ref())), "write");
      }
      observer_.advanced(part.length, 0);
    });
    fail(file.close(), "write");
  }

  void finish_leaf(const Entry& entry, const TreePath& placed, const std::string& note) {
    if (entry.has_content()) {
      ++result_.files;
      result_.bytes += entry.size;
    } else {
      ++result_.others;
    }
    tell(entry, placed, note);
  }

  void tell(const Entry& entry, const TreePath& placed, const std::string& note) {
    if (!item_) return;
    std::string where = request_.target == "/" ? placed.absolute() : request_.target + placed.absolute();
    item_({entry.path, where, entry.type, entry.size, note});
  }

  OpenPoint& point_;
  const RestoreRequest& request_;
  Observer& observer_;
  const std::function<void(const RestoredItem&)>& item_;
  std::string stamp_;
  std::optional<TargetFolder> target_;
  OwnerNumbers owners_;
  std::vector<OpenFolder> folders_;
  std::map<std::pair<std::uint32_t, std::uint64_t>, TreePath> links_;
  RestoreResult result_;
};

}  // namespace

std::optional<Layout> parse_layout(std::string_view name) {
  if (name == "path") return Layout::path;
  if (name == "picked") return Layout::picked;
  if (name == "flat") return Layout::flat;
  return std::nullopt;
}

RestoreResult restore(const Subject& subject, const PointWish& wish, const RestoreRequest& request,
                      Observer& observer, const std::function<void(const RestoredItem&)>& item) {
  OpenPoint point(subject, wish);
  return restore(point, request, observer, item);
}

RestoreResult restore(OpenPoint& point, const RestoreRequest& request, Observer& observer,
                      const std::function<void(const RestoredItem&)>& item) {
  Restorer restorer(point, request, observer, item);
  return restorer.run();
}

}  // namespace kestrum
