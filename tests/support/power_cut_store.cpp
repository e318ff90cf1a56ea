#include "support/power_cut_store.hpp"

#include <algorithm>

#include "base/error.hpp"
#include "base/flush_point.hpp"
#include "base/text.hpp"

namespace kestrum::test {
namespace {

using Node = PowerCutStore::Node;

class NodeReader final : public StoreReader {
 public:
  explicit NodeReader(std::shared_ptr<Node> node) : node_(std::move(node)) {}
  std::uint64_t size() const override { return node_->now.size(); }
  void read_at(std::uint64_t offset, std::span<std::uint8_t> out) const override {
    if (offset + out.size() > node_->now.size()) throw damage("a file ends too early");
    std::copy_n(node_->now.begin() + static_cast<std::ptrdiff_t>(offset), out.size(), out.begin());
  }

 private:
  std::shared_ptr<Node> node_;
};

std::string last_of(const std::string& path) {
  return path.substr(path.rfind('/') + 1);
}

void apply(const PowerCutStore::NameChange& change) {
  if (change.from) {
    auto old = change.from->durable_names.find(change.old_name);
    if (old != change.from->durable_names.end() && old->second == change.what)
      change.from->durable_names.erase(old);
  }
  if (change.to) change.to->durable_names[change.new_name] = change.what;
}

void settle_node(Node& node) {
  node.durable = node.now;
  node.durable_names = node.names;
  for (auto& [name, child] : node.names) settle_node(*child);
}

void come_back(Node& node, unsigned keep, std::mt19937& random) {
  node.names = node.durable_names;
  if (!node.folder && node.now != node.durable) {
    Bytes back = node.durable;
    if (random() % 100 < keep) {
      back = node.now;
    } else if (random() % 3 == 0 && node.now.size() > back.size()) {
      // The length is there, the content is not.
      back.resize(node.now.size(), static_cast<std::uint8_t>(random()));
    }
    node.now = node.durable = back;
  }
  for (auto& [name, child] : node.names) come_back(*child, keep, random);
}

// Each node once, whichever names lead to it.
using Copies = std::map<const Node*, std::shared_ptr<Node>>;

std::shared_ptr<Node> copy_of(const std::shared_ptr<Node>& node, Copies& made) {
  if (!node) return nullptr;
  auto [place, is_new] = made.try_emplace(node.get());
  if (!is_new) return place->second;
  const std::shared_ptr<Node> copy = std::make_shared<Node>(Node{
      .folder = node->folder, .now = node->now, .durable = node->durable, .names = {}, .durable_names = {}});
  place->second = copy;
  for (const auto& [name, child] : node->names) copy->names[name] = copy_of(child, made);
  for (const auto& [name, child] : node->durable_names) copy->durable_names[name] = copy_of(child, made);
  return copy;
}

}  // namespace

void PowerCutStore::Disk::settle() {
  pending.clear();
  settle_node(*root);
}

void PowerCutStore::Disk::cut(unsigned keep, std::mt19937& random) {
  for (const NameChange& change : pending) {
    if (random() % 100 < keep) apply(change);
  }
  pending.clear();
  come_back(*root, keep, random);
  cut_at = fail_rename_at = 0;
}

std::shared_ptr<PowerCutStore::Disk> PowerCutStore::Disk::copy() const {
  auto out = std::make_shared<Disk>();
  Copies made;
  out->root = copy_of(root, made);
  for (const NameChange& change : pending)
    out->pending.push_back({copy_of(change.from, made), copy_of(change.to, made), change.old_name,
                            change.new_name, copy_of(change.what, made)});
  return out;
}

class PowerCutWriter final : public StoreWriter {
 public:
  PowerCutWriter(PowerCutStore& store, std::shared_ptr<Node> node) : store_(store), node_(std::move(node)) {}
  void append(ByteView data) override {
    store_.step();
    node_->now.insert(node_->now.end(), data.begin(), data.end());
  }
  void flush() override {
    store_.step();
    if (flush_point("1: content of a file")) node_->durable = node_->now;
  }
  void finish() override { flush(); }

 private:
  PowerCutStore& store_;
  std::shared_ptr<Node> node_;
};

void PowerCutStore::step() {
  ++disk_->operations;
  if (disk_->cut_at != 0 && disk_->operations >= disk_->cut_at)
    throw system_error("reach", "a disk without power", EIO);
}

std::shared_ptr<Node> PowerCutStore::find(const std::string& path) const {
  std::shared_ptr<Node> at = disk_->root;
  if (path.empty()) return at;
  for (const std::string& part : split(path, '/')) {
    auto found = at->names.find(part);
    if (found == at->names.end()) return nullptr;
    at = found->second;
  }
  return at;
}

std::shared_ptr<Node> PowerCutStore::folder_above(const std::string& path) const {
  std::shared_ptr<Node> above = find(folder_of(path));
  if (!above || !above->folder) throw system_error("open", folder_of(path), ENOENT);
  return above;
}

std::shared_ptr<Node> PowerCutStore::make(const std::string& path, bool folder) {
  std::shared_ptr<Node> above = folder_above(path);
  auto node = std::make_shared<Node>();
  node->folder = folder;
  if (!above->names.try_emplace(last_of(path), node).second) throw system_error("create", path, EEXIST);
  disk_->pending.push_back({nullptr, above, {}, last_of(path), node});
  return node;
}

std::vector<StoreEntry> PowerCutStore::list(const std::string& folder) const {
  std::vector<StoreEntry> out;
  if (std::shared_ptr<Node> node = find(folder)) {
    for (const auto& [name, child] : node->names) out.push_back({name, child->folder, child->now.size()});
  }
  return out;
}

std::unique_ptr<StoreReader> PowerCutStore::try_open(const std::string& path) const {
  std::shared_ptr<Node> node = find(path);
  if (!node || node->folder) return nullptr;
  return std::make_unique<NodeReader>(node);
}

std::unique_ptr<StoreWriter> PowerCutStore::create(const std::string& path) {
  step();
  return std::make_unique<PowerCutWriter>(*this, make(path, false));
}

std::unique_ptr<StoreWriter> PowerCutStore::reopen(const std::string& path) {
  std::shared_ptr<Node> node = find(path);
  if (!node) throw system_error("open", path, ENOENT);
  return std::make_unique<PowerCutWriter>(*this, node);
}

void PowerCutStore::reserve(const std::string& path, std::uint64_t) {
  step();
  make(path, false);
}

bool PowerCutStore::create_exclusive(const std::string& path, ByteView content) {
  step();
  if (find(path)) return false;
  std::shared_ptr<Node> node = make(path, false);
  node->now = node->durable = Bytes(content.begin(), content.end());
  return true;
}

void PowerCutStore::rename(const std::string& from, const std::string& to) {
  step();
  std::shared_ptr<Node> node = find(from), source = folder_above(from), target = folder_above(to);
  if (!node) throw system_error("rename", from, ENOENT);
  if (node->folder && ++disk_->folder_renames == disk_->fail_rename_at)
    throw system_error("rename", from, EIO);
  source->names.erase(last_of(from));
  target->names[last_of(to)] = node;
  disk_->pending.push_back({source, target, last_of(from), last_of(to), node});
}

void PowerCutStore::remove(const std::string& path) {
  std::shared_ptr<Node> node = find(path);
  if (!node) return;
  step();
  std::shared_ptr<Node> above = folder_above(path);
  above->names.erase(last_of(path));
  disk_->pending.push_back({above, nullptr, last_of(path), {}, node});
}

bool PowerCutStore::make_folder(const std::string& path) {
  if (find(path)) return false;
  step();
  make(path, true);
  return true;
}

void PowerCutStore::remove_folder(const std::string& path) {
  std::shared_ptr<Node> node = find(path);
  if (!node || !node->names.empty()) throw system_error("remove the folder", path, ENOTEMPTY);
  remove(path);
}

bool PowerCutStore::flush_folder(const std::string& path) {
  step();
  std::shared_ptr<Node> folder = find(path);
  if (!folder) throw system_error("open", path, ENOENT);
  std::vector<NameChange> rest;
  for (NameChange& change : disk_->pending) {
    if (change.from == folder || change.to == folder) {
      apply(change);
    } else {
      rest.push_back(std::move(change));
    }
  }
  disk_->pending = std::move(rest);
  return true;
}

}  // namespace kestrum::test
