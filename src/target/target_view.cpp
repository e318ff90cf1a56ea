#include "target/target_view.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <cerrno>

namespace kestrum {

TargetView::TargetView(const std::string& path) {
  struct stat status {};
  if (stat(path.c_str(), &status) == 0) {
    there_.emplace(path);
    return;
  }
  if (errno != ENOENT) throw system_error("look at the folder", path, errno);
  for (std::string up = path; !above_; up.resize(up.find_last_of('/'))) {
    if (up.find('/') == std::string::npos || up.empty()) up = "/";
    above_ = FileHandle(open(up.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (!above_ && errno != ENOENT) throw system_error("open the folder", up, errno);
  }
}

int TargetView::folder(const TreePath& below) {
  if (!there_) return -1;
  try {
    return there_->folder(below, false);
  } catch (const FolderMissing&) {
    return -1;
  }
}

int TargetView::nearest(const TreePath& below) {
  if (!there_) return above_.get();
  for (TreePath at = below;; at = at.parent()) {
    if (int fd = folder(at); fd >= 0) return fd;
  }
}

}  // namespace kestrum
