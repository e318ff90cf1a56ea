#include "job/key_edit.hpp"

#define TOML_EXCEPTIONS 1
#include <toml++/toml.h>

#include <algorithm>

#include "base/error.hpp"
#include "base/text.hpp"
#include "job/toml_text.hpp"

namespace kestrum {
namespace {

constexpr std::size_t none = std::string::npos;

struct Range {
  std::size_t begin = 0;
  std::size_t end = 0;  // behind its last byte
};

// One change in one valid text.
class TextEdit {
 public:
  TextEdit(std::string text, const KeyChange& change)
      : text_(std::move(text)), change_(change), document_(toml::parse(text_)) {}

  std::string apply() {
    const toml::node* table = document_.get(change_.key->table);
    const toml::node* value = nullptr;
    if (table != nullptr && table->is_table()) {
      for (auto&& [key, node] : *table->as_table()) {
        if (key.str() != change_.key->key) continue;
        value = &node;
        key_ = range(key.source());
      }
    }
    if (value != nullptr) {
      value_ = range(value->source());
      change_.values ? replace(*value) : remove();
    } else if (change_.values) {
      table == nullptr ? add_table() : add_key(*table->as_table());
    }
    return text_;
  }

 private:
  // Lines and columns are counted from 1; a column is a code point.
  std::size_t offset(const toml::source_position& at) const {
    std::size_t line_begin = 0;
    for (std::uint32_t line = 1; line < at.line; ++line) line_begin = text_.find('\n', line_begin) + 1;
    std::size_t out = line_begin;
    for (std::uint32_t column = 1; column < at.column; ++column)
      out += std::max<std::size_t>(1, utf8_length(std::string_view(text_).substr(out)));
    return std::min(out, text_.size());
  }
  Range range(const toml::source_region& region) const { return {offset(region.begin), offset(region.end)}; }

  std::size_t line_begin(std::size_t at) const {
    std::size_t before = at == 0 ? none : text_.rfind('\n', at - 1);
    return before == none ? 0 : before + 1;
  }
  // Of its newline, or of the end of the text.
  std::size_t line_end(std::size_t at) const { return std::min(text_.find('\n', at), text_.size()); }
  bool blank(std::size_t begin, std::size_t end) const {
    return text_.substr(begin, end - begin).find_first_not_of(" \t\r,") == none;
  }
  std::string indent(std::size_t at) const {
    std::size_t begin = line_begin(at);
    std::size_t end = text_.find_first_not_of(" \t", begin);
    return text_.substr(begin, std::min(end, at) - begin);
  }
  void put(Range where, const std::string& with) {
    text_.replace(where.begin, where.end - where.begin, with);
  }

  std::string assignment() const {
    return std::string(change_.key->key) + " = " + toml_value(*change_.key, *change_.values);
  }

  void replace(const toml::node& value) {
    const std::string before = text_;
    const Range whole = value_;
    const toml::array* list = value.as_array();
    if (list != nullptr && edit_list(*list) && says_what_is_wanted()) return;
    text_ = before;
    put(whole, toml_value(*change_.key, *change_.values));
  }

  // Lists can be written in ways that nobody thinks of.
  bool says_what_is_wanted() const {
    try {
      toml::table document = toml::parse(text_);
      const toml::array* list = document[change_.key->table][change_.key->key].as_array();
      if (list == nullptr || list->size() != change_.values->size()) return false;
      for (std::size_t i = 0; i < list->size(); ++i) {
        if ((*list)[i].value_exact<std::string>() != (*change_.values)[i]) return false;
      }
      return true;
    } catch (const toml::parse_error&) {
      return false;
    }
  }

  // True when it could be done item by item: some stay as they are and in their order, new ones come after.
  bool edit_list(const toml::array& list) {
    const std::vector<std::string>& wanted = *change_.values;
    std::vector<Range> gone;
    std::size_t kept = 0;
    std::optional<Range> last;
    for (const toml::node& item : list) {
      std::optional<std::string> text = item.value_exact<std::string>();
      if (text && kept < wanted.size() && *text == wanted[kept]) {
        ++kept;
        last = range(item.source());
      } else {
        gone.push_back(range(item.source()));
      }
    }
    if (!last) return false;
    add_items({wanted.begin() + static_cast<std::ptrdiff_t>(kept), wanted.end()}, *last, gone);
    for (auto item = gone.rbegin(); item != gone.rend(); ++item) drop_item(*item);
    return true;
  }

  void add_items(const std::vector<std::string>& items, const Range& last, std::vector<Range>& gone) {
    if (items.empty()) return;
    std::size_t end = line_end(last.end);
    bool own_line = blank(line_begin(last.begin), last.begin) && end < value_.end;
    std::size_t next = text_.find_first_not_of(" \t", last.end);
    bool comma = next != none && text_[next] == ',';
    std::string added;
    for (const std::string& item : items)
      added += own_line ? "\n" + indent(last.begin) + toml_quoted(item) + "," : ", " + toml_quoted(item);
    std::size_t at = own_line ? end : last.end;
    // What is behind it moves.
    std::size_t more = added.size() + (own_line && !comma ? 1 : 0);
    for (Range& range : gone) {
      if (range.begin < at) continue;
      range.begin += more;
      range.end += more;
    }
    text_.insert(at, added);
    if (own_line && !comma) text_.insert(last.end, ",");
    value_.end += more;
  }

  void drop_item(const Range& item) {
    std::size_t begin = item.begin, end = item.end;
    std::size_t next = text_.find_first_not_of(" \t", end);
    bool comma = next != none && text_[next] == ',';
    if (comma) end = next + 1;
    std::size_t close = line_end(end);
    std::size_t behind = text_.find_first_not_of(" \t\r", end);
    bool alone = blank(line_begin(begin), begin) && (behind >= close || text_[behind] == '#');
    if (alone && line_begin(begin) > value_.begin && close < text_.size()) {
      begin = line_begin(begin);  // its line, with the comment about it
      end = close + 1;
    } else if (comma) {
      end = std::min(text_.find_first_not_of(" \t", end), text_.size());
    } else {
      std::size_t before = text_.find_last_not_of(" \t\r\n", begin - 1);
      if (before != none && text_[before] == ',') begin = before;
    }
    put({begin, end}, "");
  }

  // A comment behind it stays, on a line of its own.
  void remove() {
    std::size_t begin = line_begin(key_.begin);
    std::size_t end = line_end(value_.end);
    std::string dotted = std::string(change_.key->table) + ".";
    if (trim(std::string_view(text_).substr(begin, key_.begin - begin)) == dotted)
      key_.begin = text_.find_first_not_of(" \t", begin);
    std::size_t behind = text_.find_first_not_of(" \t\r", value_.end);
    if (!blank(begin, key_.begin) || (behind < end && text_[behind] != '#')) {
      remove_inline();
    } else if (behind < end) {
      put({begin, behind}, indent(key_.begin));
    } else {
      put({begin, std::min(end + 1, text_.size())}, "");
    }
  }

  // { a = 1, b = 2 }
  void remove_inline() {
    std::size_t begin = key_.begin, end = value_.end;
    std::size_t next = text_.find_first_not_of(" \t", end);
    std::size_t before = text_.find_last_not_of(" \t", begin - 1);
    if (next != none && text_[next] == ',') {
      end = std::min(text_.find_first_not_of(" \t", next + 1), text_.size());
    } else if (before != none && text_[before] == ',') {
      begin = before;
    }
    put({begin, end}, "");
  }

  void add_table() {
    if (!text_.empty() && text_.back() != '\n') text_ += '\n';
    text_ += std::string("[") + change_.key->table + "]\n" + assignment() + "\n";
  }

  void add_key(const toml::table& table) {
    std::size_t head = offset(table.source().begin);
    // The last of its keys by place.
    std::optional<Range> last;
    std::size_t last_key = 0;
    for (auto&& [key, node] : table) {
      Range place = range(node.source());
      if (last && place.begin < last->begin) continue;
      last = place;
      last_key = offset(key.source().begin);
    }
    if (table.is_inline()) {
      std::size_t brace = offset(table.source().end) - 1;
      std::size_t at = last ? last->end : brace;
      text_.insert(at, (last ? ", " : " ") + assignment() + (last ? "" : " "));
      return;
    }
    bool headed = text_[head] == '[';
    std::size_t at = line_end(last ? last->end : head);
    std::string line = "\n" + (last ? indent(last_key) : std::string());
    if (!headed) line += std::string(change_.key->table) + ".";
    text_.insert(at, line + assignment());
  }

  std::string text_;
  const KeyChange& change_;
  toml::table document_;
  Range key_, value_;
};

}  // namespace

std::string edit_keys(const std::string& file, const std::string& text, const std::vector<KeyChange>& changes,
                      const TakeKey& check, const std::function<GivenValues(const std::string& text)>& read) {
  GivenValues expected = read(text);
  std::string edited = text;
  for (const KeyChange& change : changes) {
    if (change.values) {
      check_writable(*change.key, *change.values);
      try {
        check(*change.key, *change.values);
      } catch (const Error& error) {
        throw Error(ErrorKind::usage, "--" + change.key->option() + ": " + error.what(), error.hint());
      }
      expected[{change.key->table, change.key->key}] = *change.values;
    } else {
      expected.erase({change.key->table, change.key->key});
    }
    edited = TextEdit(edited, change).apply();
  }
  if (read(edited) != expected) {
    throw Error(ErrorKind::failed,
                printable(file) + " is written in a way that its keys cannot be changed by their place",
                "change it by hand, in an editor");
  }
  return edited;
}

}  // namespace kestrum
