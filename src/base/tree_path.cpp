#include "base/tree_path.hpp"

#include <algorithm>
#include <cstdint>
#include <cstring>

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
    if (!path.joined_.empty()) path.joined_ += '/';
    path.joined_ += part;
  }
  return path;
}

bool TreePath::is_proper(std::string_view joined, std::size_t known) {
  // From the start of the component that the known part ends in.
  std::string_view rest = joined;
  std::size_t slash = rest.substr(0, known).rfind('/');
  if (slash != std::string_view::npos) rest.remove_prefix(slash + 1);
  if (rest.empty() && !joined.empty()) return false;
  while (!rest.empty()) {
    std::size_t end = rest.find('/');
    if (!valid_component(rest.substr(0, end))) return false;
    if (end == std::string_view::npos) break;
    rest.remove_prefix(end + 1);
    if (rest.empty()) return false;
  }
  return true;
}

std::optional<TreePath> TreePath::continued(std::string joined, std::size_t known) {
  if (!is_proper(joined, known)) return std::nullopt;
  TreePath path;
  path.joined_ = std::move(joined);
  return path;
}

std::size_t common_length(std::string_view a, std::string_view b) {
  std::size_t most = std::min(a.size(), b.size());
  std::size_t at = 0;
  for (; at + 8 <= most; at += 8) {
    std::uint64_t left = 0;
    std::uint64_t right = 0;
    std::memcpy(&left, a.data() + at, 8);
    std::memcpy(&right, b.data() + at, 8);
    if (left != right) break;
  }
  while (at < most && a[at] == b[at]) ++at;
  return at;
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

bool TreePath::is_within(std::string_view joined, std::string_view folder) {
  if (folder.empty()) return true;
  if (!joined.starts_with(folder)) return false;
  return joined.size() == folder.size() || joined[folder.size()] == '/';
}

bool TreePath::is_within(const TreePath& folder) const {
  return is_within(joined_, folder.joined_);
}

TreePath TreePath::below(const TreePath& folder) const {
  TreePath rest;
  if (joined_.size() > folder.joined_.size()) {
    rest.joined_ = joined_.substr(folder.joined_.empty() ? 0 : folder.joined_.size() + 1);
  }
  return rest;
}

std::strong_ordering TreePath::order(std::string_view a, std::string_view b) {
  std::size_t common = common_length(a, b);
  if (common == a.size() || common == b.size()) return a.size() <=> b.size();
  auto weight = [](char c) { return c == '/' ? 0 : static_cast<int>(static_cast<unsigned char>(c)); };
  return weight(a[common]) <=> weight(b[common]);
}

}  // namespace kestrum
