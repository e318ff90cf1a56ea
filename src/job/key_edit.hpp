// Changing keys of a file by their place in the text: comments, order and spelling of everything else stay as
// they were.
#pragma once

#include <optional>

#include "job/key_file.hpp"

namespace kestrum {

struct KeyChange {
  const FileKey* key = nullptr;
  std::optional<KeyValues> values;  // none: the key goes, the usual holds again
};

// The new text of `file`, which is for messages. Values that a list has before and after keep their line and
// its comment. `check`: of one key alone. `read`: a whole text, which must be valid before and after. Throws
// Error of kind usage when the file or a value is wrong, or what comes out.
std::string edit_keys(const std::string& file, const std::string& text, const std::vector<KeyChange>& changes,
                      const TakeKey& check, const std::function<GivenValues(const std::string& text)>& read);

}  // namespace kestrum
