#include "engine/file_compare.hpp"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <dtl/dtl.hpp>

#include "archive/file_view.hpp"
#include "archive/sha256.hpp"
#include "base/open_beneath.hpp"
#include "base/text.hpp"
#include "target/target_view.hpp"

namespace kestrum {
namespace {

constexpr std::uint64_t most_text = 4u << 20;
constexpr std::size_t most_lines = 100000;

// One side: its facts, and its content where that may be text.
struct Read {
  FileSide side;
  Bytes content;  // as far as it may be text
};

bool has_digest(EntryType type) {
  return type == EntryType::file || type == EntryType::device_image;
}

Read of_point(OpenPoint& point, const TreePath& path, RunControl& control) {
  Read out;
  const std::optional<Entry> entry = point.catalog().find(path);
  if (!entry) return out;
  out.side = {true, entry->type, entry->size, entry->modified, {}};
  if (!has_digest(entry->type)) return out;
  Sha256 digest;
  const bool keep = entry->size <= most_text;
  FileView(point.reader(), *entry).each(0, entry->size, [&](std::uint64_t length, ByteView content) {
    control.checkpoint();
    content.empty() ? digest.zeros(length) : digest.update(content);
    if (!keep) return;
    if (content.empty()) out.content.resize(out.content.size() + length);
    out.content.insert(out.content.end(), content.begin(), content.end());
  });
  out.side.sha256 = digest.finish();
  return out;
}

Read of_disk(const TreePath& path, RunControl& control) {
  Read out;
  TargetView view("/");
  const int folder = view.folder(path.parent());
  struct stat status {};
  if (folder < 0 || fstatat(folder, std::string(path.name()).c_str(), &status, AT_SYMLINK_NOFOLLOW) != 0)
    return out;
  out.side = {true,
              S_ISREG(status.st_mode)   ? EntryType::file
              : S_ISDIR(status.st_mode) ? EntryType::folder
                                        : EntryType::symlink,
              static_cast<std::uint64_t>(status.st_size),
              {status.st_mtim.tv_sec, static_cast<std::int32_t>(status.st_mtim.tv_nsec)},
              {}};
  if (out.side.type != EntryType::file) return out;
  const FileHandle file = open_beneath(folder, std::string(path.name()), O_RDONLY);
  if (!file) throw system_error("read", path.absolute(), errno);
  Sha256 digest;
  const bool keep = out.side.size <= most_text;
  Bytes buffer(1u << 20);
  while (true) {
    control.checkpoint();
    const ssize_t got = read(file.get(), buffer.data(), buffer.size());
    if (got < 0) throw system_error("read", path.absolute(), errno);
    if (got == 0) break;
    const ByteView part = ByteView(buffer).first(static_cast<std::size_t>(got));
    digest.update(part);
    if (keep && out.content.size() <= most_text)
      out.content.insert(out.content.end(), part.begin(), part.end());
  }
  out.side.sha256 = digest.finish();
  return out;
}

bool is_text(const Read& read) {
  if (!read.side.there || read.side.type != EntryType::file || read.content.size() != read.side.size)
    return false;
  return std::find(read.content.begin(), read.content.end(), 0) == read.content.end() &&
         static_cast<std::size_t>(std::count(read.content.begin(), read.content.end(), '\n')) < most_lines;
}

std::vector<std::string> lines_of(const Bytes& content) {
  if (content.empty()) return {};
  std::vector<std::string> lines = split(as_text(content), '\n');
  if (lines.back().empty()) lines.pop_back();
  return lines;
}

// Only what is near to a change.
std::vector<ChangedLine> near_changes(std::vector<ChangedLine> all) {
  constexpr std::size_t around = 2;
  std::vector<bool> wanted(all.size());
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (all[i].how == ChangedLine::How::same) continue;
    const std::size_t end = std::min(all.size(), i + around + 1);
    for (std::size_t near = i - std::min(i, around); near < end; ++near) wanted[near] = true;
  }
  std::vector<ChangedLine> out;
  for (std::size_t i = 0; i < all.size(); ++i) {
    if (wanted[i]) out.push_back(std::move(all[i]));
  }
  return out;
}

std::vector<ChangedLine> changed_lines(const Bytes& before, const Bytes& now) {
  dtl::Diff<std::string> diff(lines_of(before), lines_of(now));
  diff.onHuge();
  diff.compose();
  std::vector<ChangedLine> all;
  std::uint64_t old_number = 0, new_number = 0;
  for (const auto& [text, info] : diff.getSes().getSequence()) {
    ChangedLine line{ChangedLine::How::same, 0, 0, text};
    if (info.type == dtl::SES_DELETE) line.how = ChangedLine::How::removed;
    if (info.type == dtl::SES_ADD) line.how = ChangedLine::How::added;
    if (line.how != ChangedLine::How::added) line.before = ++old_number;
    if (line.how != ChangedLine::How::removed) line.now = ++new_number;
    all.push_back(std::move(line));
  }
  // What was comes before what is.
  const auto is_same = [](const ChangedLine& line) { return line.how == ChangedLine::How::same; };
  for (auto at = all.begin(); at != all.end();) {
    const auto begin = std::find_if_not(at, all.end(), is_same);
    at = std::find_if(begin, all.end(), is_same);
    std::stable_partition(begin, at,
                          [](const ChangedLine& line) { return line.how == ChangedLine::How::removed; });
  }
  return near_changes(std::move(all));
}

FileComparison held_together(const Read& before, const Read& now) {
  FileComparison out;
  out.before = before.side;
  out.now = now.side;
  out.same = before.side.there && now.side.there && before.side.sha256 == now.side.sha256 &&
             before.side.type == now.side.type;
  out.text = is_text(before) && is_text(now);
  if (out.text && !out.same) out.lines = changed_lines(before.content, now.content);
  return out;
}

}  // namespace

bool is_plain_text(OpenPoint& point, const Entry& entry) {
  if (entry.size > most_text) return false;
  bool plain = true;
  Bytes content;
  FileView(point.reader(), entry).each(0, entry.size, [&](std::uint64_t, ByteView part) {
    plain = plain && !part.empty();  // a hole is none
    content.insert(content.end(), part.begin(), part.end());
  });
  const auto shows = [](std::uint8_t byte) {
    return byte >= 0x20 ? byte != 0x7f : byte == '\n' || byte == '\t' || byte == '\r';
  };
  return plain && is_utf8(as_text(content)) && std::all_of(content.begin(), content.end(), shows);
}

FileComparison compare_file_points(OpenPoint& a, OpenPoint& b, const TreePath& path, RunControl& control) {
  return held_together(of_point(a, path, control), of_point(b, path, control));
}

FileComparison compare_file_disk(OpenPoint& a, const TreePath& path, RunControl& control) {
  return held_together(of_point(a, path, control), of_disk(path, control));
}

}  // namespace kestrum
