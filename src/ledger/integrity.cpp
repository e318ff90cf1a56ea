#include "ledger/integrity.hpp"

#include <sqlite3.h>

#include <memory>

namespace kestrum {
namespace {

// A path as an SQLite URI (https://www.sqlite.org/uri.html): only what is plain stays as it is.
std::string uri_of(const std::string& path) {
  static const char* const digits = "0123456789ABCDEF";
  std::string uri = "file:";
  for (const char c : path) {
    const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                       c == '/' || c == '-' || c == '_' || c == '.';
    const auto byte = static_cast<unsigned char>(c);
    if (plain) {
      uri += c;
    } else {
      uri += {'%', digits[byte >> 4], digits[byte & 15]};
    }
  }
  return uri + "?immutable=1";
}

}  // namespace

std::string database_trouble(const std::string& path) {
  sqlite3* opened = nullptr;
  const int code =
      sqlite3_open_v2(uri_of(path).c_str(), &opened, SQLITE_OPEN_READONLY | SQLITE_OPEN_URI, nullptr);
  const std::unique_ptr<sqlite3, decltype(&sqlite3_close)> database(opened, sqlite3_close);
  if (code != SQLITE_OK) return sqlite3_errstr(code);
  std::string answer;
  const auto take = [](void* into, int columns, char** values, char**) {
    if (columns > 0 && values[0] != nullptr) *static_cast<std::string*>(into) = values[0];
    return 0;
  };
  char* message = nullptr;
  sqlite3_exec(database.get(), "PRAGMA integrity_check(1)", take, &answer, &message);
  const std::unique_ptr<char, decltype(&sqlite3_free)> owned(message, sqlite3_free);
  if (message != nullptr) return message;
  return answer == "ok" ? "" : answer.empty() ? "it gives no answer" : answer;
}

}  // namespace kestrum
