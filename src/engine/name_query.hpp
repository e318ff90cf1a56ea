// What a search looks for, and whether something fits.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "archive/catalog_entry.hpp"

namespace kestrum {

// All that is given must fit.
struct NameQuery {
  // A part of the name, or a shell-like pattern for the whole of it (see source/pattern); with a '/' in it,
  // for the whole path. Ignores ASCII case. Empty: any name.
  std::string pattern = {};
  // The pattern is a regular expression instead (PCRE2, https://www.pcre.org), for a part of the whole path;
  // ignores case.
  bool regex = false;
  std::optional<std::uint64_t> at_least = {}, at_most = {};  // bytes, of files
  std::optional<Instant> since = {}, until = {};             // last modification, both included
  std::optional<EntryType> type = {};
};

// Any number of threads. Copies share the compiled expression.
class NameMatcher {
 public:
  // Throws Error of kind usage, with the place, for what is no regular expression.
  explicit NameMatcher(const NameQuery& query);
  // `joined`: its path. What an expression takes too long for does not fit.
  bool fits(const std::string& joined, const EntryHead& head) const;
  bool fits(const Entry& entry) const {
    return fits(entry.path.joined(), {entry.type, entry.modified, entry.size});
  }

  // The name or path alone.
  bool name_fits(const std::string& joined) const;
  // Every name does.
  bool any_name() const { return !expression_ && (wanted_.empty() || wanted_ == "*"); }

 private:
  struct Expression;
  NameQuery query_;
  std::string wanted_;  // in lower case
  bool plain_ = false, whole_ = false;
  std::shared_ptr<Expression> expression_;
};

}  // namespace kestrum
