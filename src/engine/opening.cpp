#include "engine/opening.hpp"

#include <fcntl.h>
#include <unistd.h>

#include <cstring>
#include <optional>
#include <vector>

#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/shell_command.hpp"
#include "base/text.hpp"
#include "ledger/integrity.hpp"

namespace kestrum {
namespace {

// A program that opens files of a kind. In `words` % is the file, and %out a new file beside it.
struct Way {
  const char* program;
  const char* words;
  int also_good = 0;  // an exit code besides 0: it opened with a warning
};

struct FileKind {
  const char* as;
  std::size_t at;  // where the mark stands
  std::string_view mark;
  const char* ending;  // of the name; nullptr: whatever it is
  std::vector<Way> ways;
};

// The first that fits counts. Marks are those of the formats' own definitions.
const std::vector<FileKind>& kinds() {
  using namespace std::string_view_literals;
  static const Way thumbnail{"gdk-pixbuf-thumbnailer", "-s 32 % %out"};
  static const Way identify{"identify", "-quiet %"};
  static const std::vector<Way> picture{thumbnail, identify};
  static const Way sox{"sox", "-V1 % -n"}, ffmpeg{"ffmpeg", "-v error -xerror -i % -f null -"};
  static const std::vector<Way> sound{sox, ffmpeg};
  static const std::vector<Way> xml{{"xmllint", "--noout --nonet %"}};
  static const std::vector<FileKind> all{
      {"picture", 0, "\xFF\xD8\xFF"sv, nullptr, {{"djpeg", "-fast -outfile %out %"}, thumbnail, identify}},
      {"picture", 0, "\x89PNG\r\n\x1A\n"sv, nullptr, {{"pngcheck", "-q %"}, thumbnail, identify}},
      {"picture", 0, "GIF8"sv, nullptr, picture},
      {"picture", 0, "II*\0"sv, nullptr, picture},
      {"picture", 0, "MM\0*"sv, nullptr, picture},
      {"picture", 8, "WEBP"sv, nullptr, picture},
      {"database", 0, "SQLite format 3\0"sv, nullptr, {}},
      {"document", 0, "%PDF-"sv, nullptr, {{"qpdf", "--check %", 3}, {"pdfinfo", "%"}}},
      {"packed file", 0, "\x1F\x8B"sv, nullptr, {{"gzip", "-t %"}}},
      {"packed file", 0, "BZh"sv, nullptr, {{"bzip2", "-t %"}}},
      {"packed file",
       0,
       "\xFD"
       "7zXZ\0"sv,
       nullptr,
       {{"xz", "-t %"}}},
      {"packed file", 0, "\x28\xB5\x2F\xFD"sv, nullptr, {{"zstd", "-tq %"}}},
      {"archive", 0, "PK\x03\x04"sv, nullptr, {{"unzip", "-tqq %", 1}, {"bsdtar", "-tf %"}}},
      {"archive", 257, "ustar"sv, nullptr, {{"tar", "-tf %"}, {"bsdtar", "-tf %"}}},
      {"archive",
       0,
       "7z\xBC\xAF\x27\x1C"sv,
       nullptr,
       {{"7z", "t -bd %"}, {"7zz", "t -bd %"}, {"bsdtar", "-tf %"}}},
      {"recording", 0, "fLaC"sv, nullptr, {{"flac", "-ts %"}, sox, ffmpeg}},
      {"recording", 8, "WAVE"sv, nullptr, sound},
      {"recording", 0, "OggS"sv, nullptr, sound},
      {"recording", 0, "ID3"sv, nullptr, sound},
      {"document", 0, "<?xml"sv, nullptr, xml},
      {"track", 0, "<gpx"sv, ".gpx", xml},
  };
  return all;
}

std::string first_bytes(const std::string& path) {
  constexpr std::size_t wanted = 512;
  const FileHandle file(open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW));
  if (!file) throw system_error("open", path, errno);
  std::string first(wanted, '\0');
  const ssize_t got = read(file.get(), first.data(), first.size());
  if (got < 0) throw system_error("read", path, errno);
  first.resize(static_cast<std::size_t>(got));
  return first;
}

bool is_of(const FileKind& kind, const std::string& first, const std::string& path) {
  if (kind.ending != nullptr && !path.ends_with(kind.ending)) return false;
  return first.size() >= kind.at + kind.mark.size() &&
         std::memcmp(first.data() + kind.at, kind.mark.data(), kind.mark.size()) == 0;
}

std::string command_of(const Way& way, const std::string& path, const std::string& out) {
  std::string command = std::string("exec ") + way.program + " ";
  for (std::string_view rest = way.words; !rest.empty();) {
    if (rest.starts_with("%out")) {
      command += shell_word(out);
      rest.remove_prefix(4);
    } else if (rest.front() == '%') {
      command += shell_word(path);
      rest.remove_prefix(1);
    } else {
      command += rest.front();
      rest.remove_prefix(1);
    }
  }
  return command + " </dev/null >/dev/null";
}

// Nothing: the program is not there.
std::optional<Opening> ask(const FileKind& kind, const Way& way, const std::string& path,
                           const std::string& beside, RunControl& control) {
  constexpr std::chrono::seconds longest(120);
  constexpr int not_found = 127;  // POSIX, "Exit Status for Commands"
  const std::string out = beside + "/.opened";
  const CommandResult result = run_shell(command_of(way, path, out), {}, longest, control);
  unlink(out.c_str());
  if (result.exit_code == not_found) return std::nullopt;
  Opening opening{.how = Opening::How::opens, .as = kind.as, .program = way.program, .why = {}};
  if (result.timed_out) {
    opening.how = Opening::How::not_ended;
  } else if (result.exit_code != 0 && result.exit_code != way.also_good) {
    opening.how = Opening::How::fails;
    opening.why = result.reason(longest);
  }
  return opening;
}

}  // namespace

Opening try_opening(const std::string& path, const std::string& beside, RunControl& control) {
  const std::string first = first_bytes(path);
  for (const FileKind& kind : kinds()) {
    if (!is_of(kind, first, path)) continue;
    if (kind.ways.empty()) {
      const std::string trouble = database_trouble(path);
      return {trouble.empty() ? Opening::How::opens : Opening::How::fails, kind.as, "its own check", trouble};
    }
    Opening none{Opening::How::no_program, kind.as, {}, {}};
    for (const Way& way : kind.ways) {
      if (std::optional<Opening> opening = ask(kind, way, path, beside, control)) return *opening;
      none.program += (none.program.empty() ? "" : ", ") + std::string(way.program);
    }
    return none;
  }
  return {};
}

}  // namespace kestrum
