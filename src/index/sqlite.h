// SQLite behind four small types. Exceptions are not used; errors are Results. Not thread-safe.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

#include "base/error.h"

struct sqlite3;
struct sqlite3_stmt;

namespace pargeter {

class Database;

// A prepared statement, used again and again. Text and blobs are bound with their length.
class Statement {
 public:
  Statement() = default;
  ~Statement();
  Statement(Statement&& other) noexcept;
  Statement& operator=(Statement&& other) noexcept;

  Statement& Bind(int at, std::int64_t value);
  Statement& Bind(int at, std::string_view blob);
  Statement& BindNull(int at);
  // True: there is a row. After false or an error the statement is ready to be bound again.
  Result<bool> Step();
  Status Run();  // steps to the end
  void Reset();
  std::int64_t Int(int column) const;
  std::string Blob(int column) const;
  bool IsNull(int column) const;

 private:
  friend class Database;
  Statement(sqlite3* db, sqlite3_stmt* statement) : db_(db), statement_(statement) {}
  sqlite3* db_ = nullptr;
  sqlite3_stmt* statement_ = nullptr;
};

class Database {
 public:
  static Result<Database> Open(const std::string& path);
  Database() = default;
  ~Database();
  Database(Database&& other) noexcept;
  Database& operator=(Database&& other) noexcept;
  Result<Statement> Prepare(std::string_view sql);
  Status Execute(const std::string& sql);
  std::int64_t LastRowId() const;

 private:
  sqlite3* db_ = nullptr;
};

// Rolls back unless Commit was called. Nests: only the outermost one is real.
class Transaction {
 public:
  explicit Transaction(Database* db, int* depth);
  ~Transaction();
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  Status Commit();
  void Abandon();  // rolls back now; nothing after Commit

 private:
  Database* db_;
  int* depth_;
  bool open_ = true;
};

}  // namespace pargeter
