#include "base/tree_path.hpp"

#include <algorithm>

#include "base/text.hpp"

namespace kestrum {

bool valid_component(std::string_view name) {
  return !name.empty() && name != "." && name != ".." && name.size() <= 65535 &&
         name.find('/') == std::string_view::npos && name.find('\0') == std::string_view::npos;
}

std::optional<TreePath> TreePath::parse(std::string_view text) {
  TreePath path;
  for (const std::string& part : split(text, '/')) {
    if (part.empty() || part == ".") continue;
    if (!valid_component(part)) return std::nullopt;
    path = path.child(part);
  }
  return path;
}

std::optional<TreePath> TreePath::from_joined(std::string_view joined) {
  TreePath path;
  path.joined_ = joined;
  while (!joined.empty()) {
    std::size_t end = joined.find('/');
    if (!valid_component(joined.substr(0, end))) return std::nullopt;
    if (end == std::string_view::npos) return path;
    joined.remove_prefix(end + 1);
    if (joined.empty()) return std::nullopt;
  }
  return path;
}

std::string_view TreePath::name() const {
  std::size_t slash = joined_.rfind('/');
  return std::string_view(joined_).substr(slash == std::string::npos ? 0 : slash + 1);
}

TreePath TreePath::parent() const {
  TreePath up;
  std::size_t slash = joined_.rfind('/');
  if (slash != std::string::npos) up.joined_ = joined_.substr(0, slash);
  return up;
}

TreePath TreePath::child(std::string_view name) const {
  TreePath down;
  down.joined_.reserve(joined_.size() + 1 + name.size());
  down.joined_ = joined_;
  if (!joined_.empty()) down.joined_ += '/';
  down.joined_ += name;
  return down;
}

std::vector<std::string> TreePath::components() const {
  return joined_.empty() ? std::vector<std::string>{} : split(joined_, '/');
}

std::size_t TreePath::depth() const {
  return joined_.empty() ? 0 : 1 + static_cast<std::size_t>(std::count(joined_.begin(), joined_.end(), '/'));
}

bool TreePath::is_within(const TreePath& folder) const {
  if (folder.joined_.empty()) return true;
  if (!joined_.starts_with(folder.joined_)) return false;
  return joined_.size() == folder.joined_.size() || joined_[folder.joined_.size()] == '/';
}

TreePath TreePath::below(const TreePath& folder) const {
  TreePath rest;
  if (joined_.size() > folder.joined_.size()) {
    rest.joined_ = joined_.substr(folder.joined_.empty() ? 0 : folder.joined_.size() + 1);
  }
  return rest;
}

std::strong_ordering TreePath::operator<=>(const TreePath& other) const {
  const std::string& a = joined_;
  const std::string& b = other.joined_;
  std::size_t common = std::min(a.size(), b.size());
  auto [left, right] = std::mismatch(a.begin(), a.begin() + static_cast<std::ptrdiff_t>(common), b.begin());
  if (left == a.begin() + static_cast<std::ptrdiff_t>(common)) return a.size() <=> b.size();
  auto weight = [](char c) { return c == '/' ? 0 : static_cast<int>(static_cast<unsigned char>(c)); };
  return weight(*left) <=> weight(*right);
}

}  // namespace kestrum
