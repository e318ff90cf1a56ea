#include "engine/agent_seat.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <nlohmann/json.hpp>

#include "base/error.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

using Json = nlohmann::ordered_json;

// A lock of the open file: the kernel lets go of it when the process ends, whatever happens.
struct flock whole_file() {
  struct flock lock {};
  lock.l_type = F_WRLCK;
  lock.l_whence = SEEK_SET;
  return lock;
}

AgentHere read_who(int file) {
  char text[512];
  const ssize_t got = pread(file, text, sizeof text, 0);
  const Json json = Json::parse(text, text + std::max<ssize_t>(got, 0), nullptr, false);
  AgentHere here;
  try {
    here.pid = json.at("pid").get<int>();
    here.what = json.at("what").get<std::string>();
    here.since = parse_utc(json.at("since").get<std::string>()).value_or(Instant{});
  } catch (const Json::exception&) {
    // It has only just sat down.
  }
  return here;
}

}  // namespace

AgentSeat::AgentSeat(const Home& home, const std::string& what, Instant now) {
  const std::string path = home.agent_file();
  home.make_folder_of(path);
  file_ = FileHandle(open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW, 0600));
  if (!file_) throw system_error("open", path, errno);
  struct flock lock = whole_file();
  if (fcntl(file_.get(), F_OFD_SETLK, &lock) != 0) {
    if (errno != EAGAIN && errno != EACCES) throw system_error("lock", path, errno);
    const AgentHere here = read_who(file_.get());
    throw Error(ErrorKind::busy,
                "the " + (here.what.empty() ? std::string("agent") : "'kestrum " + here.what + "'") +
                    " of process " + std::to_string(here.pid) + " looks after the jobs here already",
                "see: kestrum status; end it with: kill " + std::to_string(here.pid));
  }
  const std::string text =
      Json{{"pid", getpid()}, {"what", what}, {"since", utc_text({now.seconds, 0})}}.dump() + "\n";
  if (ftruncate(file_.get(), 0) != 0 ||
      pwrite(file_.get(), text.data(), text.size(), 0) != static_cast<ssize_t>(text.size())) {
    // Who is there cannot be told; the lock holds all the same.
  }
}

std::optional<AgentHere> agent_here(const Home& home) {
  const FileHandle file(open(home.agent_file().c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW));
  if (!file) return std::nullopt;
  struct flock lock = whole_file();
  if (fcntl(file.get(), F_OFD_GETLK, &lock) != 0 || lock.l_type == F_UNLCK) return std::nullopt;
  return read_who(file.get());
}

}  // namespace kestrum
