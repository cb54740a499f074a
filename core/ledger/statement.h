#pragma once
// Statements of SQLite, and what a database that came with a project may not do.

#include <sqlite3.h>

#include <cstdint>
#include <string>
#include <vector>

namespace hedgerow {

/// A prepared statement that ends with its scope.
class Statement {
public:
    Statement(sqlite3* database, const std::string& sql, const std::vector<std::string>& values = {}) {
        if (sqlite3_prepare_v2(database, sql.c_str(), -1, &statement_, nullptr) != SQLITE_OK) return;
        for (std::size_t i = 0; i < values.size(); ++i)
            sqlite3_bind_text(statement_, static_cast<int>(i) + 1, values[i].c_str(), -1, SQLITE_TRANSIENT);
    }
    ~Statement() { sqlite3_finalize(statement_); }
    Statement(const Statement&) = delete;
    Statement& operator=(const Statement&) = delete;
    /// SQLITE_ROW, SQLITE_DONE, or an error.
    int step() { return statement_ ? sqlite3_step(statement_) : SQLITE_ERROR; }
    std::string text(int column) const {
        const auto* bytes = sqlite3_column_text(statement_, column);
        return bytes ? reinterpret_cast<const char*>(bytes) : "";
    }
    std::int64_t whole(int column) const { return sqlite3_column_int64(statement_, column); }
    double real(int column) const { return sqlite3_column_double(statement_, column); }

private:
    sqlite3_stmt* statement_ = nullptr;
};

/// The database comes with the project, maybe from a stranger: it is data, and nothing in it acts.
inline void restrictDatabase(sqlite3* database, int longestText) {
    constexpr int busyMilliseconds = 1500;  // another window may be writing
    sqlite3_busy_timeout(database, busyMilliseconds);
    sqlite3_limit(database, SQLITE_LIMIT_LENGTH, longestText);
    for (const int option : {SQLITE_DBCONFIG_ENABLE_TRIGGER, SQLITE_DBCONFIG_ENABLE_VIEW, SQLITE_DBCONFIG_TRUSTED_SCHEMA})
        sqlite3_db_config(database, option, 0, nullptr);
    sqlite3_db_config(database, SQLITE_DBCONFIG_DEFENSIVE, 1, nullptr);
}

}  // namespace hedgerow
