// SQLite behind four small types. Exceptions are not used; errors are Results. Not thread-safe.
#pragma once

#include <cstdint>
#include <functional>
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
  Statement(Database* of, sqlite3_stmt* statement);
  sqlite3* db_ = nullptr;
  const int* depth_ = nullptr;  // of its database's transactions
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
  // Called at the end of every outermost transaction: before it is committed, which an error
  // prevents, and after it was rolled back.
  void OnEnd(std::function<Status()> before_commit, std::function<void()> after_rollback);
  std::int64_t LastRowId() const;
  std::int64_t Changes() const;  // rows written so far, also by what was rolled back

 private:
  friend class Statement;
  friend class Transaction;
  sqlite3* db_ = nullptr;
  std::unique_ptr<int> depth_ = std::make_unique<int>(0);
  std::function<Status()> before_commit_;
  std::function<void()> after_rollback_;
};

// Rolls back unless Commit was called. Nests: only the outermost one is real. One that could not be
// begun, or that SQLite gave up by itself after a fault, refuses every further change: none is ever
// made on its own that belongs to others.
class Transaction {
 public:
  explicit Transaction(Database* db);
  ~Transaction();
  Transaction(const Transaction&) = delete;
  Transaction& operator=(const Transaction&) = delete;
  Status Commit();
  void Abandon();  // rolls back now; nothing after Commit

 private:
  void RolledBack();
  Database* db_;
  bool open_ = true;
};

}  // namespace pargeter
