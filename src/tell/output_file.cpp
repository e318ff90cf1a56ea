#include "tell/output_file.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>

#include "base/error.hpp"
#include "base/random.hpp"

namespace kestrum {

OutputFile::OutputFile(std::string path)
    : path_(std::move(path)), temporary_(path_ + "." + to_hex(random_bytes(4)) + ".part") {
  file_ = FileHandle(open(temporary_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666));
  if (!file_) throw system_error("create", path_, errno);
}

OutputFile::~OutputFile() {
  if (!temporary_.empty()) unlink(temporary_.c_str());
}

void OutputFile::flush() {
  if (!write_full(file_.get(), as_bytes(pending_))) throw system_error("write", path_, errno);
  pending_.clear();
}

void OutputFile::write(std::string_view text) {
  constexpr std::size_t enough = 64u << 10;
  pending_ += text;
  if (pending_.size() >= enough) flush();
}

void OutputFile::set_mode(unsigned mode) {
  if (fchmod(file_.get(), mode) != 0) throw system_error("set who may read", path_, errno);
}

void OutputFile::keep() {
  flush();
  if (int code = file_.close(); code != 0) throw system_error("close", path_, code);
  if (rename(temporary_.c_str(), path_.c_str()) != 0) throw system_error("write", path_, errno);
  temporary_.clear();
}

}  // namespace kestrum
