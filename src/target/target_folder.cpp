#include "target/target_folder.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "base/error.hpp"
#include "base/open_beneath.hpp"
#include "base/text.hpp"
#include "target/names_before.hpp"

namespace kestrum {

TargetFolder::TargetFolder(const std::string& path) : path_(path) {
  for (std::size_t at = 0; at != std::string::npos;) {
    at = path.find('/', at + 1);
    std::string part = path.substr(0, at);
    // What is restored may be anybody's: it is for whoever restores it to let others in.
    if (mkdir(part.c_str(), 0700) == 0 || errno == EEXIST || errno == EISDIR) continue;
    const int code = errno;
    struct stat status {};
    if (stat(part.c_str(), &status) != 0) throw system_error("create the folder", part, code);
  }
  root_ = FileHandle(open(path.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (!root_ && errno == ENOTDIR) {
    throw Error(ErrorKind::usage, "cannot restore into " + printable(path) + ": it is a file, not a folder",
                "name a folder; it is created when it is missing");
  }
  if (!root_) throw system_error("open the folder", path, errno);
}

void TargetFolder::flush(bool everywhere) {
  if (everywhere) {
    sync();
  } else if (syncfs(root_.get()) != 0 && errno != ENOSYS) {
    throw system_error("be sure that what was restored is on the drive: flush", path_, errno);
  }
}

std::string TargetFolder::describe(const TreePath& below) const {
  return printable(below.is_root() ? path_ : (path_ == "/" ? "" : path_) + "/" + below.joined());
}

int TargetFolder::folder(const TreePath& below, bool create, bool* created) {
  if (created != nullptr) *created = false;
  while (!chain_.empty() && !below.is_within(chain_.back().below)) chain_.pop_back();
  TreePath at = chain_.empty() ? TreePath() : chain_.back().below;
  for (const std::string& name : below.below(at).components()) {
    int up = chain_.empty() ? root_.get() : chain_.back().handle.get();
    at = at.child(name);
    FileHandle handle = open_beneath(up, name, O_RDONLY | O_DIRECTORY);
    if (!handle && (errno == ENOENT || refuses_name(errno)) && create) {
      if (mkdirat(up, name.c_str(), 0700) != 0 && errno != EEXIST) {
        if (refuses_name(errno)) throw NameRefused(ErrorKind::failed, system_reason(errno));
        throw system_error("create the folder", describe(at), errno);
      }
      if (created != nullptr) *created = true;
      handle = open_beneath(up, name, O_RDONLY | O_DIRECTORY);
    }
    if (!handle && (errno == ELOOP || errno == ENOTDIR || errno == EXDEV)) {
      throw Error(ErrorKind::failed, describe(at) + " is not a folder, and nothing is restored through it",
                  "restore into another folder");
    }
    if (!handle && errno == ENOENT)
      throw FolderMissing(ErrorKind::failed, "the folder " + describe(at) + " is not there");
    if (!handle) throw system_error("open the folder", describe(at), errno);
    chain_.push_back({at, std::move(handle)});
    if (chain_.size() > open_limit_) chain_.pop_front();
  }
  return chain_.empty() ? root_.get() : chain_.back().handle.get();
}

}  // namespace kestrum
