#include "engine/name_query.hpp"

#define PCRE2_CODE_UNIT_WIDTH 8
#include <pcre2.h>

#include <algorithm>
#include <array>
#include <string_view>

#include "base/error.hpp"
#include "base/text.hpp"
#include "source/pattern.hpp"

namespace kestrum {
namespace {

void make_lower(std::string& text) {
  std::transform(text.begin(), text.end(), text.begin(),
                 [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; });
}

std::string_view name_of(std::string_view joined) {
  const std::size_t slash = joined.rfind('/');
  return joined.substr(slash == std::string_view::npos ? 0 : slash + 1);
}

struct FreeCode {
  void operator()(pcre2_code* code) const { pcre2_code_free(code); }
};
struct FreeMatch {
  void operator()(pcre2_match_data* data) const { pcre2_match_data_free(data); }
};
struct FreeContext {
  void operator()(pcre2_match_context* context) const { pcre2_match_context_free(context); }
};

}  // namespace

// Names are bytes, mostly UTF-8: what is none is matched around.
struct NameMatcher::Expression {
  explicit Expression(const std::string& text) {
    int code_of_error = 0;
    PCRE2_SIZE at = 0;
    code.reset(pcre2_compile(reinterpret_cast<PCRE2_SPTR>(text.data()), text.size(),
                             PCRE2_CASELESS | PCRE2_UTF | PCRE2_MATCH_INVALID_UTF, &code_of_error, &at,
                             nullptr));
    if (!code) {
      std::array<PCRE2_UCHAR, 256> reason{};
      pcre2_get_error_message(code_of_error, reason.data(), reason.size());
      throw Error(ErrorKind::usage,
                  "'" + printable(text) +
                      "' is no regular expression: " + reinterpret_cast<const char*>(reason.data()) +
                      ", at character " + std::to_string(at + 1),
                  "a part of the name, or a pattern with * and ?, needs no --regex");
    }
    pcre2_jit_compile(code.get(), PCRE2_JIT_COMPLETE);  // only quicker
    context.reset(pcre2_match_context_create(nullptr));
    constexpr std::uint32_t most_steps = 1u << 20;
    pcre2_set_match_limit(context.get(), most_steps);
  }
  bool found_in(std::string_view text) const {
    const std::unique_ptr<pcre2_match_data, FreeMatch> data(
        pcre2_match_data_create_from_pattern(code.get(), nullptr));
    return pcre2_match(code.get(), reinterpret_cast<PCRE2_SPTR>(text.data()), text.size(), 0, 0, data.get(),
                       context.get()) >= 0;
  }
  std::unique_ptr<pcre2_code, FreeCode> code;
  std::unique_ptr<pcre2_match_context, FreeContext> context;
};

namespace {

constexpr std::array<char, 256> lower_letters = [] {
  std::array<char, 256> table{};
  for (std::size_t i = 0; i < table.size(); ++i)
    table[i] = static_cast<char>(i >= 'A' && i <= 'Z' ? i + 32 : i);
  return table;
}();

char lower(char letter) {
  return lower_letters[static_cast<unsigned char>(letter)];
}

// Millions of names are asked, and most do not hold even the first letter of what is wanted.
bool holds_lower(std::string_view name, std::string_view wanted) {
  if (name.size() < wanted.size()) return false;
  const char first = wanted[0];
  for (std::size_t at = 0; at + wanted.size() <= name.size(); ++at) {
    if (lower(name[at]) != first) continue;
    std::size_t same = 1;
    while (same < wanted.size() && lower(name[at + same]) == wanted[same]) ++same;
    if (same == wanted.size()) return true;
  }
  return false;
}

}  // namespace

NameMatcher::NameMatcher(const NameQuery& query) : query_(query), wanted_(query.pattern) {
  if (query.regex) {
    expression_ = std::make_shared<Expression>(query.pattern);
    return;
  }
  make_lower(wanted_);
  plain_ = wanted_.find_first_of("*?[\\") == std::string::npos;
  whole_ = wanted_.find('/') != std::string::npos;
  if (wanted_.starts_with('/')) wanted_.erase(0, 1);
}

bool NameMatcher::name_fits(const std::string& joined) const {
  if (expression_) return expression_->found_in("/" + joined);
  if (wanted_.empty()) return true;
  const std::string_view name = whole_ ? std::string_view(joined) : name_of(joined);
  if (plain_) return holds_lower(name, wanted_);
  std::string lowered(name);
  make_lower(lowered);
  return matches_pattern(wanted_, lowered);
}

bool NameMatcher::fits(const std::string& joined, const EntryHead& head) const {
  if (query_.type && head.type != *query_.type) return false;
  const bool sized = head.type == EntryType::file || head.type == EntryType::device_image;
  if ((query_.at_least || query_.at_most) && !sized) return false;
  if (query_.at_least && head.size < *query_.at_least) return false;
  if (query_.at_most && head.size > *query_.at_most) return false;
  if (query_.since && head.modified < *query_.since) return false;
  if (query_.until && *query_.until < head.modified) return false;
  return name_fits(joined);
}

}  // namespace kestrum
