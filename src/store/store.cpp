#include "store/store.hpp"

#include <algorithm>
#include <array>

#include "base/error.hpp"
#include "base/flush_point.hpp"

namespace kestrum {
namespace {

class NoHold final : public StoreHold {};

Bytes content_of(const StoreReader& file, std::uint64_t limit, const Store& store, const std::string& path) {
  if (file.size() > limit) throw damage(store.describe(path) + " is larger than such a file can be");
  // Small files, of which a destination has hundreds: no memory is cleared only to be written over.
  std::array<std::uint8_t, 8192> buffer;
  if (file.size() <= buffer.size()) {
    std::span<std::uint8_t> part = std::span(buffer).first(file.size());
    file.read_at(0, part);
    return Bytes(part.begin(), part.end());
  }
  Bytes content(file.size());
  file.read_at(0, content);
  return content;
}

}  // namespace

std::string folder_of(const std::string& path) {
  std::size_t slash = path.rfind('/');
  return slash == std::string::npos ? "" : path.substr(0, slash);
}

std::unique_ptr<StoreReader> Store::open(const std::string& path) const {
  std::unique_ptr<StoreReader> file = try_open(path);
  if (!file) throw damage(describe(path) + " is missing");
  return file;
}

Bytes Store::read_all(const std::string& path, std::uint64_t limit) const {
  return content_of(*open(path), limit, *this, path);
}

std::optional<Bytes> Store::try_read_all(const std::string& path, std::uint64_t limit) const {
  std::unique_ptr<StoreReader> file = try_open(path);
  if (!file) return std::nullopt;
  return content_of(*file, limit, *this, path);
}

std::optional<bool> Store::holds(const std::string& path, ByteView content) const {
  std::unique_ptr<StoreReader> file = try_open(path);
  if (!file) return std::nullopt;
  if (file->size() != content.size()) return false;
  std::array<std::uint8_t, 8192> buffer;
  for (std::size_t at = 0; at < content.size(); at += buffer.size()) {
    ByteView expected = content.subspan(at, std::min(buffer.size(), content.size() - at));
    std::span<std::uint8_t> part = std::span(buffer).first(expected.size());
    file->read_at(at, part);
    if (!std::equal(part.begin(), part.end(), expected.begin())) return false;
  }
  return true;
}

void Store::put(const std::string& path, ByteView content) {
  std::string folder = folder_of(path);
  std::size_t dot = path.rfind('.');
  std::string temporary =
      path.substr(0, dot != std::string::npos && dot > folder.size() ? dot : path.size()) + ".tmp";
  remove(temporary);
  std::unique_ptr<StoreWriter> file = create(temporary);
  file->append(content);
  file->finish();
  rename(temporary, path);
  if (flush_point("2: name of a small file")) flush_folder(folder);
}

void Store::shorten(const std::string& path, std::uint64_t size) {
  const bool flushes = flush_point("9: what a run goes on with");
  std::unique_ptr<StoreReader> whole = open(path);
  if (whole->size() == size) {
    whole.reset();
    // Where files appear whole they are on the drive.
    if (flushes && traits().appends) reopen(path)->finish();
    return;
  }
  const std::string temporary = path + ".tmp";
  remove(temporary);
  std::unique_ptr<StoreWriter> part = create(temporary);
  constexpr std::uint64_t at_once = 1u << 20;
  Bytes bytes;
  for (std::uint64_t at = 0; at < size; at += bytes.size()) {
    bytes.resize(static_cast<std::size_t>(std::min(at_once, size - at)));
    whole->read_at(at, bytes);
    part->append(bytes);
  }
  whole.reset();
  part->finish();
  rename(temporary, path);
}

void Store::remove_all(const std::vector<std::string>& paths) {
  for (const std::string& path : paths) remove(path);
}

std::unique_ptr<StoreHold> Store::hold(const std::string&) {
  return std::make_unique<NoHold>();
}

void Store::make_folders(const std::string& path) {
  for (std::size_t at = 0; at != std::string::npos;) {
    at = path.find('/', at + 1);
    std::string part = path.substr(0, at);
    if (make_folder(part) && flush_point("3: name of a folder")) flush_folder(folder_of(part));
  }
}

}  // namespace kestrum
