#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/categories.hpp"
#include "job/key_setters.hpp"

namespace kestrum {

void refuse_value(const std::string& message, const std::string& hint) {
  throw Error(ErrorKind::usage, message, hint);
}

std::size_t one_of(const std::string& value, const std::vector<std::string>& words, const std::string& also) {
  auto found = std::find(words.begin(), words.end(), value);
  if (found != words.end()) return static_cast<std::size_t>(found - words.begin());
  std::optional<std::string> near = nearest(value, words);
  refuse_value("'" + printable(value) + "' is not one of " + join(words, ", ") + also,
               near ? "did you mean '" + *near + "'?" : "write one of them");
}

std::uint64_t size_value(const std::string& value) {
  if (std::optional<std::uint64_t> size = parse_size(value)) return *size;
  bool number = !value.empty() && value.find_first_not_of("0123456789") == std::string::npos;
  refuse_value("'" + printable(value) + "' is not a size" + (number ? ": it has no unit" : " with a unit"),
               number ? "did you mean \"" + value + " MiB\"?" : "write it like \"650 MiB\" or \"4 GiB\"");
}

void set_description(Job& job, const KeyValues& values) {
  constexpr std::size_t longest = 200;
  if (printable(values[0]) != values[0] || values[0].size() > longest)
    refuse_value("the description is longer than " + std::to_string(longest) +
                     " bytes, or holds characters that cannot be shown",
                 "one line of plain words, without a backslash");
  job.what.description = values[0];
}

void set_people(Job& job, const KeyValues& values) {
  if (values.empty()) refuse_value("nobody is named", "write \"me\", \"everybody\", or names of accounts");
  for (const std::string& value : values) {
    if (value.empty() || value.find('/') != std::string::npos || printable(value) != value)
      refuse_value("'" + printable(value) + "' is no account's name",
                   "write \"me\", \"everybody\", or the names people log in with");
  }
  job.what.people = values;
}

void set_categories(Job& job, const KeyValues& values) {
  if (values.empty())
    refuse_value("no category is named", "the categories are " + join(category_names(), ", "));
  for (const std::string& value : values) one_of(value, category_names());
  job.what.categories = values;
}

void set_folders(Job& job, const KeyValues& values) {
  if (values.empty()) refuse_value("no folder is named", "name at least one, like [\"/srv/ringing\"]");
  for (const std::string& value : values) {
    if (!value.starts_with('/'))
      refuse_value("'" + printable(value) + "' is not an absolute path",
                   "write it from the root, like /srv/ringing");
    if (!TreePath::parse(value))
      refuse_value("'" + printable(value) + "' holds '..'", "write the folder itself");
  }
  job.what.folders = values;
}

void set_skip(Job& job, const KeyValues& values) {
  SkipRules{values};
  job.what.skip = values;
}

void set_usual_list(Job& job, const KeyValues& values) {
  job.what.usual_list = one_of(values[0], {"leave out", "save"}) == 0;
}
void set_hidden(Job& job, const KeyValues& values) {
  job.what.hidden = one_of(values[0], {"save", "leave out"}) == 0;
}
void set_mounted_below(Job& job, const KeyValues& values) {
  job.what.mounted_below = one_of(values[0], {"save", "leave out"}) == 0;
}
void set_cache_tags(Job& job, const KeyValues& values) {
  job.what.tagged_caches = one_of(values[0], {"leave out", "save"}) == 1;
}
void set_skip_larger(Job& job, const KeyValues& values) {
  job.what.skip_larger = size_value(values[0]);
}
void set_skip_smaller(Job& job, const KeyValues& values) {
  job.what.skip_smaller = size_value(values[0]);
}
void set_skip_older(Job& job, const KeyValues& values) {
  job.what.skip_older = expect_span(values[0]);
}
void set_skip_newer(Job& job, const KeyValues& values) {
  job.what.skip_newer = expect_span(values[0]);
}

}  // namespace kestrum
