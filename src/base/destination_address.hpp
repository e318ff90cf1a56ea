// How a place for archive sets is named: by a path, by the label or the UUID of the drive it lies on. Later
// also by where it is on a network.
#pragma once

#include <string>
#include <string_view>

namespace kestrum {

struct DestinationAddress {
  enum class By { path, label, uuid };
  By by = By::path;
  std::string drive;   // label or UUID (lower case); empty for paths
  std::string folder;  // the path; on a drive, below its root, beginning with '/' or empty

  // `label:NAME[/FOLDER]`, `uuid:UUID[/FOLDER]`, or a path. Anything is one.
  static DestinationAddress parse(std::string_view text);
  bool names_drive() const { return by != By::path; }
};

}  // namespace kestrum
