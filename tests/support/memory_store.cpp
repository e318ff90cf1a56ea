#include "support/memory_store.hpp"

#include <atomic>
#include <filesystem>

#include "support/temp_folder.hpp"

namespace kestrum::test {
namespace {

class MemoryReader final : public StoreReader {
 public:
  explicit MemoryReader(const Bytes& content) : content_(content) {}
  std::uint64_t size() const override { return content_.size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    if (offset + out.size() > content_.size()) throw damage("a file in memory ends too early");
    std::copy_n(content_.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }

 private:
  const Bytes& content_;
};

class MemoryWriter final : public StoreWriter {
 public:
  explicit MemoryWriter(Bytes& content) : content_(content) {}
  void append(ByteView data) override { content_.insert(content_.end(), data.begin(), data.end()); }
  void flush() override {}
  void finish() override {}

 private:
  Bytes& content_;
};

class FaultWriter final : public StoreWriter {
 public:
  FaultWriter(std::unique_ptr<StoreWriter> inner, std::shared_ptr<FaultStore::State> state)
      : inner_(std::move(inner)), state_(std::move(state)) {}
  void append(ByteView data) override {
    if (state_->hits()) {
      if (state_->fault.torn) inner_->append(data.first(data.size() / 2));
      throw system_error("write", "a failing file", state_->fault.code);
    }
    inner_->append(data);
  }
  void flush() override {
    state_->step("flush");
    inner_->flush();
  }
  void finish() override {
    state_->step("flush");
    inner_->finish();
  }

 private:
  std::unique_ptr<StoreWriter> inner_;
  std::shared_ptr<FaultStore::State> state_;
};

class FaultReader final : public StoreReader {
 public:
  FaultReader(std::unique_ptr<StoreReader> inner, std::shared_ptr<FaultStore::State> state)
      : inner_(std::move(inner)), state_(std::move(state)) {}
  std::uint64_t size() const override { return inner_->size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    state_->read_step("read");
    inner_->read_at(offset, out);
  }
  void drop_cache() const override { inner_->drop_cache(); }

 private:
  std::unique_ptr<StoreReader> inner_;
  std::shared_ptr<FaultStore::State> state_;
};

class CountingReader final : public StoreReader {
 public:
  CountingReader(std::unique_ptr<StoreReader> inner, std::shared_ptr<CountingStore::Counts> counts,
                 std::string name)
      : inner_(std::move(inner)), counts_(std::move(counts)), name_(std::move(name)) {}
  std::uint64_t size() const override { return inner_->size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    {
      std::lock_guard lock(counts_->counting);
      counts_->bytes[name_] += out.size();
    }
    inner_->read_at(offset, out);
  }

 private:
  std::unique_ptr<StoreReader> inner_;
  std::shared_ptr<CountingStore::Counts> counts_;
  std::string name_;
};

}  // namespace

MemoryStore MemoryStore::load(const std::string& folder) {
  MemoryStore store;
  namespace fs = std::filesystem;
  for (const fs::directory_entry& entry : fs::recursive_directory_iterator(folder)) {
    std::string path = entry.path().lexically_relative(folder).string();
    if (entry.is_directory()) {
      store.folders().insert(path);
    } else {
      std::string text = read_file(entry.path().string());
      store.files()[path] = Bytes(text.begin(), text.end());
    }
  }
  return store;
}

bool MemoryStore::exists(const std::string& path) const {
  return files_->contains(path) || folders_->contains(path);
}

std::vector<StoreEntry> MemoryStore::list(const std::string& folder) const {
  std::vector<StoreEntry> entries;
  for (const auto& [path, content] : *files_) {
    if (folder_of(path) == folder)
      entries.push_back({path.substr(folder.empty() ? 0 : folder.size() + 1), false, content.size()});
  }
  for (const std::string& path : *folders_) {
    if (folder_of(path) == folder)
      entries.push_back({path.substr(folder.empty() ? 0 : folder.size() + 1), true, 0});
  }
  return entries;
}

std::unique_ptr<StoreReader> MemoryStore::try_open(const std::string& path) const {
  auto found = files_->find(path);
  if (found == files_->end()) return nullptr;
  return std::make_unique<MemoryReader>(found->second);
}

std::unique_ptr<StoreWriter> MemoryStore::create(const std::string& path) {
  auto [at, added] = files_->try_emplace(path);
  if (!added) throw system_error("create", path, EEXIST);
  return std::make_unique<MemoryWriter>(at->second);
}

std::unique_ptr<StoreWriter> MemoryStore::reopen(const std::string& path) {
  auto found = files_->find(path);
  if (found == files_->end()) throw system_error("open", path, ENOENT);
  return std::make_unique<MemoryWriter>(found->second);
}

void MemoryStore::reserve(const std::string& path, std::uint64_t) {
  create(path);
}

bool MemoryStore::create_exclusive(const std::string& path, ByteView content) {
  return files_->try_emplace(path, content.begin(), content.end()).second;
}

void MemoryStore::rename(const std::string& from, const std::string& to) {
  auto moved = [&](const std::string& path) { return path == from || path.starts_with(from + "/"); };
  Files files;
  for (auto& [path, content] : *files_)
    files[moved(path) ? to + path.substr(from.size()) : path] = std::move(content);
  *files_ = std::move(files);
  std::set<std::string> folders;
  for (const std::string& path : *folders_)
    folders.insert(moved(path) ? to + path.substr(from.size()) : path);
  *folders_ = std::move(folders);
}

void MemoryStore::remove(const std::string& path) {
  files_->erase(path);
}
bool MemoryStore::make_folder(const std::string& path) {
  return folders_->insert(path).second;
}
void MemoryStore::remove_folder(const std::string& path) {
  folders_->erase(path);
}

bool FaultStore::State::hits(bool reading) {
  if (reading != fault.reads) return false;
  // The heartbeat of a lock counts too, on its own thread.
  const std::uint64_t now = std::atomic_ref(done).fetch_add(1) + 1;
  if (strike) {
    if (now == fault.at) strike();
    return false;
  }
  return fault.at != 0 && (now == fault.at || (fault.for_ever && now > fault.at));
}

void FaultStore::State::step(const std::string& what) {
  if (hits()) throw system_error(what, "a failing store", fault.code);
}

void FaultStore::State::read_step(const std::string& what) {
  if (hits(true)) throw system_error(what, "a failing store", fault.code);
}

std::vector<StoreEntry> FaultStore::list(const std::string& folder) const {
  state_->read_step("list");
  return inner().list(folder);
}
std::unique_ptr<StoreReader> FaultStore::try_open(const std::string& path) const {
  state_->read_step("read");
  std::unique_ptr<StoreReader> file = inner().try_open(path);
  return file ? std::make_unique<FaultReader>(std::move(file), state_) : nullptr;
}
std::unique_ptr<StoreWriter> FaultStore::create(const std::string& path) {
  state_->step("create");
  return std::make_unique<FaultWriter>(inner().create(path), state_);
}
std::unique_ptr<StoreWriter> FaultStore::reopen(const std::string& path) {
  state_->step("open");
  return std::make_unique<FaultWriter>(inner().reopen(path), state_);
}
void FaultStore::put(const std::string& path, ByteView content) {
  if (traits().renames) return Store::put(path, content);
  state_->step("put");
  inner().put(path, content);
}
void FaultStore::reserve(const std::string& path, std::uint64_t size) {
  state_->step("reserve");
  inner().reserve(path, size);
}
bool FaultStore::create_exclusive(const std::string& path, ByteView content) {
  state_->step("create");
  return inner().create_exclusive(path, content);
}
void FaultStore::rename(const std::string& from, const std::string& to) {
  state_->step("rename");
  inner().rename(from, to);
}
void FaultStore::remove(const std::string& path) {
  state_->step("remove");
  inner().remove(path);
}
bool FaultStore::make_folder(const std::string& path) {
  state_->step("create a folder");
  return inner().make_folder(path);
}
void FaultStore::remove_folder(const std::string& path) {
  state_->step("remove a folder");
  inner().remove_folder(path);
}
bool FaultStore::flush_folder(const std::string& path) {
  state_->step("flush a folder");
  return inner().flush_folder(path);
}

std::unique_ptr<StoreReader> CountingStore::try_open(const std::string& path) const {
  std::unique_ptr<StoreReader> file = inner().try_open(path);
  if (!file) return nullptr;
  std::lock_guard lock(counts_->counting);
  ++counts_->opened[path];
  return std::make_unique<CountingReader>(std::move(file), counts_, path);
}

std::uint64_t CountingStore::Counts::opened_named(const std::string& name) const {
  std::uint64_t count = 0;
  for (const auto& [path, times] : opened) {
    if (path == name || path.ends_with("/" + name)) count += times;
  }
  return count;
}

}  // namespace kestrum::test
