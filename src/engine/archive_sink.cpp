// Restores into one file, or to a stream.
#include <algorithm>
#include <array>
#include <cerrno>
#include <map>
#include <set>

#include "archive/file_view.hpp"
#include "archive/sha256.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"
#include "engine/restore_sink.hpp"
#include "target/archive_file.hpp"

namespace kestrum {
namespace {

ArchiveFormat format_for(const std::string& path) {
  if (const std::optional<ArchiveFormat> format = archive_format(path)) return *format;
  throw Error(ErrorKind::usage, printable(path) + " does not say what kind of file it is to be",
              "let its name end in .zip or .tar.zst");
}

class ArchiveSink final : public RestoreSink {
 public:
  explicit ArchiveSink(RestoreState& state)
      : state_(state), file_(state.request.target, format_for(state.request.target)) {}

  void leave(const TreePath&) override {}

  void folder(const Entry& entry, const TreePath& place, bool) override {
    if (place.is_root() || !taken_.insert(place).second) return;
    file_.begin({.type = ArchiveFile::Member::Type::folder, .name = name_in_it(entry, place), .target = {}},
                state_.attributes_of(entry));
    state_.tell(entry, place, RestoreFate::put);
  }

  void leaf(const Entry& entry, const TreePath& place) override {
    if (task_of(entry, state_) != LeafTask::write) return;
    const TreePath wanted = place.parent().child(placed_name(entry, place));
    ArchiveFile::Member member;
    member.type = type_of(entry);
    TreePath placed = wanted;
    for (unsigned n = 1; taken_.contains(placed); ++n)
      placed = wanted.parent().child(nth_name_beside(std::string(wanted.name()), state_.stamp, n));
    member.name = name_in_it(entry, placed);
    const bool tar = file_.format() == ArchiveFormat::tar_zst;
    const bool special =
        member.type != ArchiveFile::Member::Type::file && member.type != ArchiveFile::Member::Type::link;
    if (special && !tar)
      throw Error(ErrorKind::failed, "a .zip holds files, folders and links only; a .tar.zst holds it");
    member.target = entry.link_target;
    member.device_major = entry.device_major;
    member.device_minor = entry.device_minor;
    std::string sha256;
    if (entry.has_content()) {
      sha256 = add_content(entry, std::move(member), tar);
    } else {
      file_.begin(member, state_.attributes_of(entry));
    }
    taken_.insert(placed);
    if (entry.several_names && entry.has_content())
      links_.try_emplace({entry.filesystem, entry.inode}, placed);
    state_.done(entry, placed, placed == wanted ? RestoreFate::put : RestoreFate::beside, std::move(sha256));
  }

  void finish() override { state_.result.archive_bytes = file_.finish(); }

 private:
  static ArchiveFile::Member::Type type_of(const Entry& entry) {
    using Type = ArchiveFile::Member::Type;
    switch (entry.type) {
      case EntryType::symlink:
        return Type::link;
      case EntryType::fifo:
        return Type::fifo;
      case EntryType::char_device:
        return Type::char_device;
      case EntryType::block_device:
        return Type::block_device;
      default:
        return Type::file;
    }
  }

  std::string name_in_it(const Entry& entry, const TreePath& place) {
    if (file_.format() == ArchiveFormat::tar_zst || is_utf8(place.joined())) return place.joined();
    state_.lose(entry.path, "keep the name of",
                "a .zip holds names in UTF-8 only; there it has \\xNN for what is none, and a .tar.zst keeps "
                "it as it is");
    return printable(place.joined());
  }

  // A member cannot be taken back once it is begun: what does not read must show before.
  std::string add_content(const Entry& entry, ArchiveFile::Member member, bool tar) {
    const auto earlier = links_.find({entry.filesystem, entry.inode});
    if (tar && entry.several_names && earlier != links_.end()) {
      member.other_name = true;
      member.target = earlier->second.joined();
      file_.begin(member, state_.attributes_of(entry));
      return state_.digest_of(entry);
    }
    state_.observer.file_begins(entry.path.absolute(), entry.size);
    member.size = entry.size;
    constexpr std::uint64_t most_kept = 16u << 20;
    FileView view(state_.reader(), entry);
    Bytes kept;
    view.each(0, entry.size, [&](std::uint64_t length, ByteView content) {
      state_.control.checkpoint();
      if (entry.size > most_kept) return;
      if (content.empty()) kept.resize(kept.size() + length);
      kept.insert(kept.end(), content.begin(), content.end());
    });
    std::optional<Sha256> digest;
    if (state_.request.digests) digest.emplace();
    file_.begin(member, state_.attributes_of(entry));
    if (entry.size <= most_kept) {
      if (digest) digest->update(kept);
      file_.write(kept);
      state_.observer.advanced(entry.size, 0);
    } else {
      write_again(view, entry, digest);
    }
    return digest ? digest->finish() : std::string();
  }

  void write_again(FileView& view, const Entry& entry, std::optional<Sha256>& digest) {
    try {
      view.each(0, entry.size, [&](std::uint64_t length, ByteView content) {
        state_.control.checkpoint();
        if (digest) content.empty() ? digest->zeros(length) : digest->update(content);
        content.empty() ? file_.zeros(length) : file_.write(content);
        state_.observer.advanced(length, 0);
      });
    } catch (const Error& error) {
      // It read a moment ago. The file that is made cannot be whole any more.
      if (!does_not_read(error)) throw;
      throw Error(ErrorKind::full,
                  printable(entry.path.absolute()) +
                      " stopped reading while it was written: " + error.what() + "; nothing was made",
                  "look at the drive, and try again");
    }
  }

  RestoreState& state_;
  ArchiveFile file_;
  std::set<TreePath> taken_;
  std::map<std::pair<std::uint32_t, std::uint64_t>, TreePath> links_;
};

class StreamSink final : public RestoreSink {
 public:
  explicit StreamSink(RestoreState& state) : state_(state) {}
  void leave(const TreePath&) override {}
  void folder(const Entry&, const TreePath&, bool) override {}
  void leaf(const Entry& entry, const TreePath& place) override {
    if (task_of(entry, state_) != LeafTask::write) return;
    // What was written cannot be taken back: what does not read must show before.
    FileView view(state_.reader(), entry);
    view.each(0, entry.size, [&](std::uint64_t, ByteView) { state_.control.checkpoint(); });
    std::optional<Sha256> digest;
    if (state_.request.digests) digest.emplace();
    view.each(0, entry.size, [&](std::uint64_t length, ByteView content) {
      state_.control.checkpoint();
      if (digest) content.empty() ? digest->zeros(length) : digest->update(content);
      if (!content.empty()) return put(content);
      static constexpr std::array<std::uint8_t, 65536> nothing{};
      for (std::uint64_t left = length; left > 0;) {
        const std::uint64_t step = std::min<std::uint64_t>(left, nothing.size());
        put(ByteView(nothing).first(static_cast<std::size_t>(step)));
        left -= step;
      }
    });
    state_.done(entry, place, RestoreFate::put, digest ? digest->finish() : std::string());
  }
  void finish() override {}

 private:
  void put(ByteView data) const {
    if (!write_full(state_.request.stream, data))
      throw TargetLost(ErrorKind::failed, "cannot write to standard output: " + system_reason(errno));
  }
  RestoreState& state_;
};

class ListSink final : public RestoreSink {
 public:
  explicit ListSink(RestoreState& state) : state_(state) {
    if (state.request.into == RestoreInto::archive) format_for(state.request.target);
  }
  void leave(const TreePath&) override {}
  void folder(const Entry&, const TreePath&, bool) override {}
  void leaf(const Entry& entry, const TreePath& place) override {
    if (task_of(entry, state_) == LeafTask::write) state_.done(entry, place, RestoreFate::put);
  }
  void finish() override {}

 private:
  RestoreState& state_;
};

}  // namespace

std::unique_ptr<RestoreSink> archive_sink(RestoreState& state) {
  return std::make_unique<ArchiveSink>(state);
}

std::unique_ptr<RestoreSink> stream_sink(RestoreState& state) {
  return std::make_unique<StreamSink>(state);
}

std::unique_ptr<RestoreSink> list_sink(RestoreState& state) {
  return std::make_unique<ListSink>(state);
}

}  // namespace kestrum
