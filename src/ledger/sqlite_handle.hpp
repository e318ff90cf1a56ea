// A small RAII wrapper over SQLite. Errors are Error of kind failed.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

struct sqlite3;
struct sqlite3_stmt;

namespace kestrum {

class Statement {
 public:
  Statement(sqlite3* database, const char* sql);
  ~Statement();
  Statement(const Statement&) = delete;
  Statement& operator=(const Statement&) = delete;
  Statement& bind(int at, std::int64_t value);
  Statement& bind(int at, std::string_view text);
  Statement& bind_null(int at);
  Statement& bind_blob(int at, std::string_view bytes);
  bool step();   // true: a row is there
  void reset();  // to be bound and stepped again
  std::int64_t integer(int column) const;
  std::string text(int column) const;
  bool is_null(int column) const;

 private:
  void check(int code);
  sqlite3* database_;
  sqlite3_stmt* statement_ = nullptr;
};

class Database {
 public:
  // Instead of a path: one that ends with this object.
  static constexpr const char* in_memory = ":memory:";
  // For writing: creates it when missing, with the mode that the caller's umask leaves (its folder is closed
  // to others); WAL, waits up to ten seconds for others. For reading: as it is, nothing is made beside it.
  explicit Database(const std::string& path, bool writing = true);
  ~Database();
  Database(const Database&) = delete;
  Database& operator=(const Database&) = delete;
  sqlite3* get() const { return database_; }
  void run(const char* sql);
  std::int64_t last_row() const;
  std::int64_t changed_rows() const;  // by the last statement

 private:
  sqlite3* database_ = nullptr;
};

// Taken back unless it is committed.
class Transaction {
 public:
  Transaction(Database& database, const char* begin);
  ~Transaction();
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  void commit();

 private:
  Database& database_;
  bool open_ = true;
};

}  // namespace kestrum
