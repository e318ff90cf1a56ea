#include "support/object_store.hpp"

#include <sys/stat.h>
#include <unistd.h>

#include <filesystem>
#include <map>

#include "base/error.hpp"
#include "base/random.hpp"
#include "base/text.hpp"
#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

namespace fs = std::filesystem;

class ObjectReader final : public StoreReader {
 public:
  explicit ObjectReader(Bytes content) : content_(std::move(content)) {}
  std::uint64_t size() const override { return content_.size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    if (offset + out.size() > content_.size()) throw damage("an object ends too early");
    std::copy_n(content_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }

 private:
  Bytes content_;
};

std::chrono::nanoseconds age_of(const std::string& path) {
  struct stat status {};
  if (lstat(path.c_str(), &status) != 0) return std::chrono::hours(1);
  timespec now{};
  clock_gettime(CLOCK_REALTIME, &now);
  return std::chrono::seconds(now.tv_sec - status.st_ctim.tv_sec) +
         std::chrono::nanoseconds(now.tv_nsec - status.st_ctim.tv_nsec);
}

bool is_hidden(const std::string& name) {
  return name == ".put" || name == ".gone";
}

}  // namespace

class ObjectWriter final : public StoreWriter {
 public:
  ObjectWriter(ObjectStore& store, std::string path) : store_(store), path_(std::move(path)) {}
  void append(ByteView data) override { content_.insert(content_.end(), data.begin(), data.end()); }
  void flush() override {}
  void finish() override { store_.put(path_, content_); }

 private:
  ObjectStore& store_;
  std::string path_;
  Bytes content_;
};

template <typename F>
auto ObjectStore::ask(F&& work) const -> decltype(work()) {
  unsigned call = ++calls_;
  bool fails = habits_.error_every != 0 && call % habits_.error_every == 0;
  auto lost = [] { throw Error(ErrorKind::not_reachable, "the other side does not answer"); };
  if (fails && call / habits_.error_every % 2 == 0) lost();
  if constexpr (std::is_void_v<decltype(work())>) {
    work();
    if (fails) lost();
  } else {
    auto result = work();
    if (fails) lost();
    return result;
  }
}

std::string ObjectStore::grave(const std::string& path) const {
  return root_ + "/.gone/" + to_hex(as_bytes(path));
}

std::string ObjectStore::upload(ByteView content) const {
  fs::create_directories(root_ + "/.put");
  std::string name = root_ + "/.put/" + to_hex(random_bytes(8));
  write_file(name, std::string(as_text(content)));
  return name;
}

bool ObjectStore::exists(const std::string& path) const {
  return ask([&] {
    std::error_code code;
    if (!fs::is_directory(full(path), code)) return fs::exists(full(path), code);
    return !fs::is_empty(full(path), code);
  });
}

std::vector<StoreEntry> ObjectStore::list(const std::string& folder) const {
  return ask([&] {
    std::map<std::string, StoreEntry> entries;
    std::error_code code;
    for (const fs::directory_entry& entry : fs::directory_iterator(full(folder), code)) {
      std::string name = entry.path().filename().string();
      if (is_hidden(name)) continue;
      // A "folder" is known by the objects below it, however late those are.
      bool is_folder = entry.is_directory(code);
      if (!is_folder && age_of(entry.path().string()) < habits_.late) continue;
      entries[name] = {name, is_folder, is_folder ? 0 : entry.file_size(code)};
    }
    // What was removed a moment ago is still shown.
    std::string prefix = folder.empty() ? "" : folder + "/";
    for (const fs::directory_entry& entry : fs::directory_iterator(root_ + "/.gone", code)) {
      std::optional<Bytes> hex = from_hex(entry.path().filename().string());
      std::string path(as_text(hex.value_or(Bytes{})));
      if (!path.starts_with(prefix) || age_of(entry.path().string()) >= habits_.late) continue;
      std::size_t end = path.find('/', prefix.size());
      std::string name = path.substr(prefix.size(), end == std::string::npos ? end : end - prefix.size());
      entries.try_emplace(name, StoreEntry{name, end != std::string::npos, 1});
    }
    std::vector<StoreEntry> out;
    for (auto& [name, entry] : entries) out.push_back(entry);
    return out;
  });
}

std::unique_ptr<StoreReader> ObjectStore::try_open(const std::string& path) const {
  return ask([&]() -> std::unique_ptr<StoreReader> {
    std::error_code code;
    if (!fs::is_regular_file(full(path), code)) return nullptr;
    std::string text = read_file(full(path));
    return std::make_unique<ObjectReader>(Bytes(text.begin(), text.end()));
  });
}

std::unique_ptr<StoreWriter> ObjectStore::create(const std::string& path) {
  return std::make_unique<ObjectWriter>(*this, path);
}

std::unique_ptr<StoreWriter> ObjectStore::reopen(const std::string& path) {
  throw Error(ErrorKind::failed, "an object cannot be appended to: " + path);
}

void ObjectStore::put(const std::string& path, ByteView content) {
  ask([&] {
    fs::create_directories(fs::path(full(path)).parent_path());
    fs::rename(upload(content), full(path));
    std::error_code code;
    fs::remove(grave(path), code);
  });
}

void ObjectStore::reserve(const std::string&, std::uint64_t) {
  throw Error(ErrorKind::failed, "no room can be taken before");
}

bool ObjectStore::create_exclusive(const std::string& path, ByteView content) {
  return ask([&] {
    fs::create_directories(fs::path(full(path)).parent_path());
    std::string name = upload(content);
    bool made = link(name.c_str(), full(path).c_str()) == 0;
    fs::remove(name);
    return made;
  });
}

void ObjectStore::rename(const std::string& from, const std::string&) {
  throw Error(ErrorKind::failed, "an object cannot be renamed: " + from);
}

void ObjectStore::remove(const std::string& path) {
  ask([&] {
    std::error_code code;
    if (!fs::remove(full(path), code)) return;
    fs::create_directories(root_ + "/.gone");
    write_file(grave(path), "");
    // Where nothing is below it, there is no folder.
    for (fs::path up = fs::path(full(path)).parent_path(); up.string().size() > root_.size();
         up = up.parent_path()) {
      if (!fs::remove(up, code)) break;
    }
  });
}

StoreSpace ObjectStore::space() const {
  return {std::uint64_t{1} << 40, std::uint64_t{1} << 40};
}

std::unique_ptr<Store> open_object_store(const std::string& root, ObjectStoreHabits habits) {
  RetryPolicy policy;
  policy.wait = [](std::chrono::milliseconds) {};
  return std::make_unique<RetryingStore>(std::make_unique<ObjectStore>(root, habits), policy);
}

}  // namespace kestrum::test
