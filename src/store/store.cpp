#include "store/store.hpp"

#include "base/error.hpp"

namespace kestrum {

Bytes Store::read_all(const std::string& path, std::uint64_t limit) const {
  std::unique_ptr<StoreReader> file = open(path);
  if (file->size() > limit) throw damage(describe(path) + " is larger than such a file can be");
  Bytes content(file->size());
  file->read_at(0, content);
  return content;
}

void Store::write_whole(const std::string& path, ByteView content) {
  std::size_t slash = path.rfind('/');
  std::string folder = slash == std::string::npos ? "" : path.substr(0, slash);
  std::size_t dot = path.rfind('.');
  std::string temporary =
      path.substr(0, dot != std::string::npos && dot > folder.size() ? dot : path.size()) + ".tmp";
  if (exists(temporary)) remove(temporary);
  std::unique_ptr<StoreWriter> file = create(temporary);
  file->append(content);
  file->finish();
  rename(temporary, path);
  flush_folder(folder);
}

}  // namespace kestrum
