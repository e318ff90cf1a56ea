// A path as a list of components: bytes, no assumption of an encoding, no `.` or `..`, no limit by PATH_MAX.
#pragma once

#include <compare>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace kestrum {

// Of any path that is saved: levels, and bytes joined (docs/FORMAT.md section 1).
inline constexpr std::size_t most_path_levels = 10000;
inline constexpr std::size_t most_path_bytes = 1u << 20;

// Always absolute on its machine; the root folder has no components. Kept joined by '/' without a leading
// one. The order is component by component, unsigned bytes, a prefix first: the order of a catalog.
class TreePath {
 public:
  TreePath() = default;
  // From text like "/srv/ringing" or "srv//ringing/": nullopt when a component is ".." or holds NUL; "." and
  // empty components are dropped.
  static std::optional<TreePath> parse(std::string_view text);
  // From its joined form; nullopt unless every component is a proper one. For untrusted input.
  static std::optional<TreePath> from_joined(std::string joined) { return continued(std::move(joined), 0); }
  // The same when the first `known` bytes are the beginning of a proper path.
  static std::optional<TreePath> continued(std::string joined, std::size_t known);
  // Whether a joined form is one, when its first `known` bytes are the beginning of one.
  static bool is_proper(std::string_view joined, std::size_t known);

  const std::string& joined() const { return joined_; }
  std::string absolute() const { return "/" + joined_; }
  bool is_root() const { return joined_.empty(); }
  std::string_view name() const;
  TreePath parent() const;
  // `name` must be a proper component (see valid_component).
  TreePath child(std::string_view name) const;
  std::vector<std::string> components() const;
  std::size_t depth() const;
  // True when `this` is `folder` or lies below it.
  bool is_within(const TreePath& folder) const;
  // The components after `folder`, which must contain this.
  TreePath below(const TreePath& folder) const;

  bool operator==(const TreePath&) const = default;
  std::strong_ordering operator<=>(const TreePath& other) const { return order(joined_, other.joined_); }
  // Of joined forms.
  static std::strong_ordering order(std::string_view a, std::string_view b);
  static bool is_within(std::string_view joined, std::string_view folder);

 private:
  std::string joined_;
};

bool valid_component(std::string_view name);

// Bytes at the start that both have.
std::size_t common_length(std::string_view a, std::string_view b);

}  // namespace kestrum
