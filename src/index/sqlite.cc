#include "index/sqlite.h"

#include <fmt/format.h>
#include <sqlite3.h>

#include <utility>

#include "base/log.h"
#include "base/text.h"

namespace pargeter {
namespace {

Error DbError(sqlite3* db, int rc) {
  Code code = Code::kIo;
  switch (rc & 0xFF) {
    case SQLITE_FULL:
      code = Code::kNoSpace;
      break;
    case SQLITE_BUSY:
    case SQLITE_LOCKED:
      code = Code::kBusy;
      break;
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB:
      code = Code::kDamaged;
      break;
    case SQLITE_CONSTRAINT:
      code = Code::kExists;
      break;
    case SQLITE_CANTOPEN:
    case SQLITE_PERM:
    case SQLITE_READONLY:
      code = Code::kPermission;
      break;
    default:
      break;
  }
  return Error(code,
               fmt::format("the drive's index: {}", db ? sqlite3_errmsg(db) : sqlite3_errstr(rc)));
}

// Within a transaction that is not there any more.
bool IsLost(sqlite3* db, int depth) { return depth > 0 && sqlite3_get_autocommit(db) != 0; }
Error LostError() {
  return Error(Code::kIo, "the drive's index: the change was given up after a fault of the disk",
               "The change is tried again.");
}

}  // namespace

Statement::Statement(Database* of, sqlite3_stmt* statement)
    : db_(of->db_), depth_(of->depth_.get()), statement_(statement) {}
Statement::~Statement() { sqlite3_finalize(statement_); }
Statement::Statement(Statement&& other) noexcept
    : db_(other.db_), depth_(other.depth_), statement_(std::exchange(other.statement_, nullptr)) {}
Statement& Statement::operator=(Statement&& other) noexcept {
  std::swap(db_, other.db_);
  std::swap(depth_, other.depth_);
  std::swap(statement_, other.statement_);
  return *this;
}
Statement& Statement::Bind(int at, std::int64_t value) {
  sqlite3_bind_int64(statement_, at, value);
  return *this;
}
Statement& Statement::Bind(int at, std::string_view blob) {
  // an empty view may have no data pointer, which SQLite would take for NULL
  sqlite3_bind_blob64(statement_, at, blob.empty() ? "" : blob.data(), blob.size(),
                      SQLITE_TRANSIENT);
  return *this;
}
Statement& Statement::BindNull(int at) {
  sqlite3_bind_null(statement_, at);
  return *this;
}
Result<bool> Statement::Step() {
  if (IsLost(db_, *depth_) && !sqlite3_stmt_readonly(statement_)) return LostError();
  const int rc = sqlite3_step(statement_);
  if (rc == SQLITE_ROW) return true;
  Error error = rc == SQLITE_DONE ? Error() : DbError(db_, rc);
  sqlite3_reset(statement_);
  if (rc == SQLITE_DONE) return false;
  return error;
}
Status Statement::Run() {
  for (;;) {
    PG_ASSIGN(const bool more, Step());
    if (!more) return {};
  }
}
void Statement::Reset() { sqlite3_reset(statement_); }
std::int64_t Statement::Int(int column) const { return sqlite3_column_int64(statement_, column); }
std::string Statement::Blob(int column) const {
  const void* data = sqlite3_column_blob(statement_, column);
  const int size = sqlite3_column_bytes(statement_, column);
  return data ? std::string(static_cast<const char*>(data), static_cast<std::size_t>(size)) : "";
}
bool Statement::IsNull(int column) const {
  return sqlite3_column_type(statement_, column) == SQLITE_NULL;
}

Result<Database> Database::Open(const std::string& path) {
  Database out;
  const int rc =
      sqlite3_open_v2(path.c_str(), &out.db_,
                      SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE | SQLITE_OPEN_NOMUTEX, nullptr);
  if (rc != SQLITE_OK) {
    return DbError(out.db_, rc).Within("cannot open " + Printable(path));
  }
  sqlite3_busy_timeout(out.db_, 5000);
  sqlite3_extended_result_codes(out.db_, 1);
  return out;
}
Database::~Database() { sqlite3_close(db_); }
Database::Database(Database&& other) noexcept
    : db_(std::exchange(other.db_, nullptr)),
      depth_(std::move(other.depth_)),
      before_commit_(std::move(other.before_commit_)),
      after_rollback_(std::move(other.after_rollback_)) {}
Database& Database::operator=(Database&& other) noexcept {
  std::swap(db_, other.db_);
  std::swap(depth_, other.depth_);
  std::swap(before_commit_, other.before_commit_);
  std::swap(after_rollback_, other.after_rollback_);
  return *this;
}
Result<Statement> Database::Prepare(std::string_view sql) {
  sqlite3_stmt* statement = nullptr;
  const int rc = sqlite3_prepare_v3(db_, sql.data(), static_cast<int>(sql.size()),
                                    SQLITE_PREPARE_PERSISTENT, &statement, nullptr);
  if (rc != SQLITE_OK) return DbError(db_, rc);
  return Statement(this, statement);
}
Status Database::Execute(const std::string& sql) {
  if (IsLost(db_, *depth_)) return LostError();
  const int rc = sqlite3_exec(db_, sql.c_str(), nullptr, nullptr, nullptr);
  if (rc != SQLITE_OK) return DbError(db_, rc);
  return {};
}
std::int64_t Database::LastRowId() const { return sqlite3_last_insert_rowid(db_); }
std::int64_t Database::Changes() const { return sqlite3_total_changes64(db_); }

void Database::OnEnd(std::function<Status()> before_commit, std::function<void()> after_rollback) {
  before_commit_ = std::move(before_commit);
  after_rollback_ = std::move(after_rollback);
}

Transaction::Transaction(Database* db) : db_(db) {
  if (*db_->depth_ == 0) {
    const Status begun = db_->Execute("BEGIN IMMEDIATE");
    if (!begun.ok()) Log(LogLevel::kError, "{}", begun.error().what);
  }
  ++*db_->depth_;
}
Transaction::~Transaction() { Abandon(); }
void Transaction::RolledBack() {
  if (!sqlite3_get_autocommit(db_->db_)) Ignore(db_->Execute("ROLLBACK"));
  if (db_->after_rollback_) db_->after_rollback_();
}
void Transaction::Abandon() {
  if (!std::exchange(open_, false)) return;
  if (--*db_->depth_ == 0) RolledBack();
}
Status Transaction::Commit() {
  if (*db_->depth_ == 1) {
    Status ready = IsLost(db_->db_, 1) ? Status(LostError()) : Status();
    if (ready.ok() && db_->before_commit_) ready = db_->before_commit_();
    if (!ready.ok()) {
      Abandon();
      return ready;
    }
  }
  open_ = false;
  if (--*db_->depth_ > 0) return {};
  Status done = db_->Execute("COMMIT");
  if (!done.ok()) RolledBack();
  return done;
}

}  // namespace pargeter
