#include "ledger/sqlite_handle.hpp"

#include <fcntl.h>
#include <sqlite3.h>
#include <sys/stat.h>

#include <cctype>

#include "base/bytes.hpp"
#include "base/error.hpp"
#include "base/file_handle.hpp"
#include "base/text.hpp"

namespace kestrum {
namespace {

[[noreturn]] void fail(sqlite3* database, const std::string& what) {
  std::string reason = database != nullptr ? sqlite3_errmsg(database) : "out of memory";
  throw Error(ErrorKind::failed, "the ledger cannot be used (" + what + "): " + reason,
              "the ledger only keeps history: move it away and a new one is begun; restoring never needs it")
      .with_code(database != nullptr ? sqlite3_errcode(database) : 0);
}

}  // namespace

Statement::Statement(sqlite3* database, const char* sql) : database_(database) {
  if (sqlite3_prepare_v2(database, sql, -1, &statement_, nullptr) != SQLITE_OK) fail(database, "preparing");
}
Statement::~Statement() {
  sqlite3_finalize(statement_);
}

void Statement::check(int code) {
  if (code != SQLITE_OK) fail(database_, "binding");
}
Statement& Statement::bind(int at, std::int64_t value) {
  check(sqlite3_bind_int64(statement_, at, value));
  return *this;
}
Statement& Statement::bind(int at, std::string_view text) {
  // An empty view may have no place: that is an empty text, not NULL.
  const char* begin = text.data() == nullptr ? "" : text.data();
  check(sqlite3_bind_text(statement_, at, begin, static_cast<int>(text.size()), SQLITE_TRANSIENT));
  return *this;
}
Statement& Statement::bind_null(int at) {
  check(sqlite3_bind_null(statement_, at));
  return *this;
}
Statement& Statement::bind_blob(int at, std::string_view bytes) {
  check(sqlite3_bind_blob(statement_, at, bytes.data(), static_cast<int>(bytes.size()), SQLITE_TRANSIENT));
  return *this;
}
bool Statement::step() {
  int code = sqlite3_step(statement_);
  if (code != SQLITE_ROW && code != SQLITE_DONE) fail(database_, "running");
  return code == SQLITE_ROW;
}
void Statement::reset() {
  sqlite3_reset(statement_);
}
std::int64_t Statement::integer(int column) const {
  return sqlite3_column_int64(statement_, column);
}
std::string Statement::text(int column) const {
  const void* bytes = sqlite3_column_blob(statement_, column);
  int size = sqlite3_column_bytes(statement_, column);
  return bytes == nullptr ? std::string()
                          : std::string(static_cast<const char*>(bytes), static_cast<std::size_t>(size));
}
bool Statement::is_null(int column) const {
  return sqlite3_column_type(statement_, column) == SQLITE_NULL;
}

namespace {

// A path as a URI: what has a meaning there is written in hex.
std::string uri_of(const std::string& path) {
  std::string out = "file:";
  for (unsigned char c : path) {
    bool plain = std::isalnum(c) != 0 || c == '/' || c == '-' || c == '_' || c == '.';
    out += plain ? std::string(1, static_cast<char>(c)) : "%" + to_hex({&c, 1});
  }
  return out + "?immutable=1";
}

// The first time it needs the file for itself, and does not wait for that by itself: another process may be
// beginning with the same ledger.
void begin_write_ahead(sqlite3* database) {
  constexpr int tries = 500, wait_ms = 20;
  int code = SQLITE_BUSY;
  for (int attempt = 0; attempt < tries && code == SQLITE_BUSY; ++attempt) {
    if (attempt > 0) sqlite3_sleep(wait_ms);
    code = sqlite3_exec(database, "PRAGMA journal_mode=WAL", nullptr, nullptr, nullptr);
  }
  if (code != SQLITE_OK) fail(database, "running");
}

}  // namespace

Database::Database(const std::string& path, bool writing) {
  int flags = SQLITE_OPEN_FULLMUTEX;
  flags |= writing ? SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE : SQLITE_OPEN_READONLY | SQLITE_OPEN_URI;
  // It names files that others may not know of; what SQLite lays beside it is as open as the file itself.
  // One that is there is not opened for that: closing it again would take SQLite's own locks on it away.
  if (writing && path != in_memory) {
    FileHandle made(open(path.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0600));
    if (!made) chmod(path.c_str(), 0600);
  }
  if (sqlite3_open_v2((writing ? path : uri_of(path)).c_str(), &database_, flags, nullptr) != SQLITE_OK) {
    std::string reason = database_ != nullptr ? sqlite3_errmsg(database_) : "out of memory";
    sqlite3_close(database_);
    throw Error(ErrorKind::failed, "cannot open the ledger " + printable(path) + ": " + reason,
                "check that the folder exists and may be written");
  }
  sqlite3_busy_timeout(database_, 10000);
  if (!writing) return;
  try {
    begin_write_ahead(database_);
    run("PRAGMA synchronous=FULL");
    run("PRAGMA foreign_keys=ON");
  } catch (...) {
    sqlite3_close(database_);
    throw;
  }
}
Database::~Database() {
  sqlite3_close(database_);
}

void Database::run(const char* sql) {
  if (sqlite3_exec(database_, sql, nullptr, nullptr, nullptr) != SQLITE_OK) fail(database_, "running");
}
std::int64_t Database::last_row() const {
  return sqlite3_last_insert_rowid(database_);
}
std::int64_t Database::changed_rows() const {
  return sqlite3_changes64(database_);
}

Transaction::Transaction(Database& database, const char* begin) : database_(database) {
  database_.run(begin);
}
Transaction::~Transaction() {
  if (open_) sqlite3_exec(database_.get(), "ROLLBACK", nullptr, nullptr, nullptr);
}
void Transaction::commit() {
  database_.run("COMMIT");
  open_ = false;
}

}  // namespace kestrum
