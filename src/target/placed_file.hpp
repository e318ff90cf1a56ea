// A file that is written under a temporary name and appears under its own only when it is whole.
#pragma once

#include <optional>
#include <string>

#include "base/bytes.hpp"
#include "base/clock.hpp"
#include "base/file_handle.hpp"

namespace kestrum {

enum class Clash { keep_both, replace, keep_existing, keep_newer };
std::optional<Clash> parse_clash(std::string_view name);
std::string_view clash_name(Clash clash);

// Under which name something is put. `replaces`: something is there and will be replaced.
struct Placement {
  std::string name;
  bool replaces = false;
};

// Where to put something when `name` was there before, or nothing: what is there stays.
std::optional<Placement> placement_by(Clash clash, int folder_fd, const std::string& name, Instant modified,
                                      const std::string& stamp);

// The n-th name (from 1) that something may have beside what is called `name`.
std::string nth_name_beside(const std::string& name, const std::string& stamp, unsigned n);

// The second name of keep-both, free in that folder: "list (from 2027-03-14 20-30).csv".
std::string name_beside(int folder_fd, const std::string& name, const std::string& stamp);

// Removed with its destructor unless `place` was reached. Errors are errno values for the caller's problem
// list.
class TemporaryFile {
 public:
  explicit TemporaryFile(int folder_fd);
  TemporaryFile(const TemporaryFile&) = delete;
  TemporaryFile& operator=(const TemporaryFile&) = delete;
  ~TemporaryFile();

  int create_file();                           // opens handle(): a regular file, mode 0600, as yet no name
  int create_link(const std::string& target);  // a symbolic link
  int create_node(unsigned type_and_mode, unsigned device_major, unsigned device_minor);
  int create_hard_link(int other_folder_fd, const std::string& other_name);

  int handle() const { return file_.get(); }
  const std::string& name() const { return name_; }
  int write(ByteView data);
  int skip(std::uint64_t length);  // a hole
  // After EFBIG: bytes that surely fit into one file here, whole MiB, at least one.
  std::uint64_t largest();
  int end();  // of a regular file, at its full length; the handle stays open
  // Of a regular file: its content is on the drive afterwards, and so is that it has a name: where a file
  // system keeps no journal, a file that was flushed without one is no file after a power cut, whatever names
  // it got.
  int flush();
  int close();  // of a regular file; no more calls on its handle
  // Renames to the placement's name. Without `replaces`, refuses with EEXIST when something is there.
  int place(const Placement& placement);

 private:
  int take_temporary_name();
  int give_name(const std::string& name);
  int folder_fd_;
  std::string name_;
  FileHandle file_;
  bool nameless_ = false;
  std::uint64_t position_ = 0;
  bool exists_ = false;
  bool ends_in_hole_ = false;
  bool hard_link_ = false;
};

// Removes what a restore that was killed in `flush` left in that folder, if `name` is such a file: our own,
// with this one name, and nobody is at it.
void clear_left_file(int folder_fd, const std::string& name);

}  // namespace kestrum
