// Restores what is no folder: files, links, FIFOs, device nodes, images of devices.
#pragma once

#include "engine/restore_sink.hpp"
#include "engine/restore_target.hpp"
#include "target/device_target.hpp"

namespace kestrum {

class LeafWriter {
 public:
  LeafWriter(RestoreState& state, RestoreTarget& target) : state_(state), target_(target) {}

  // `place`: where it should go, below the target. Throws Error: damage, failed for this file; full, stopped,
  // key for the whole restore.
  void restore(const Entry& entry, const TreePath& place);

 private:
  // Where something is put, or that it is not.
  struct Spot {
    TreePath folder;
    int fd = -1;
    std::string name;  // as wanted
    Placement placement;
  };
  struct Earlier {
    TreePath placed;
    std::string sha256;
  };
  // Nothing when what is there is kept.
  std::optional<Spot> choose_spot(const Entry& entry, const TreePath& place, const std::string& name);
  void restore_device(const Entry& entry);
  void write_device(const Entry& entry, DeviceTarget& device);
  void write(const Entry& entry, TemporaryFile& file, const Spot& spot);
  // False when the file is larger than the file system takes.
  bool write_content(const Entry& entry, TemporaryFile& file);
  void write_in_parts(const Entry& entry, const Spot& spot, std::uint64_t part_bytes);
  // The folder of an earlier name of the same file, and that name.
  FileHandle open_earlier(const Entry& entry, std::string& name);
  const Earlier* earlier_of(const Entry& entry) const;
  // Under the name of the placement or, where that cannot be, another one.
  RestoreFate put(const Entry& entry, TemporaryFile& file, Spot& spot);
  void finish(const Entry& entry, TemporaryFile& file, const Spot& spot);

  RestoreState& state_;
  RestoreTarget& target_;
  // Files with several names that were written, by file system and inode.
  std::map<std::pair<std::uint32_t, std::uint64_t>, Earlier> links_;
  std::string sha256_;  // of the file at hand
};

}  // namespace kestrum
