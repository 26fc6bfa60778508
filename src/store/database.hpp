/// @file store/database.hpp
/// A SQLite connection that closes itself and turns failures into errors. Internal to this folder.

#pragma once
#include <sqlite3.h>

#include <string>
#include <vector>

#include "base/error.hpp"

namespace escultura::store {

class Database {
  public:
    Database(const std::string& path, int flags) : path_(path) {
        if (sqlite3_open_v2(path.c_str(), &db_, flags, nullptr) != SQLITE_OK) fail();
    }
    ~Database() { sqlite3_close(db_); }
    Database(const Database&) = delete;
    Database& operator=(const Database&) = delete;

    [[noreturn]] void fail() const {
        throw InputError(ErrorDetail{"The project file cannot be used.",
                                     path_,
                                     {},
                                     "an Escultura project (SQLite)",
                                     db_ ? sqlite3_errmsg(db_) : "out of memory"});
    }
    void execute(const char* sql) {
        if (sqlite3_exec(db_, sql, nullptr, nullptr, nullptr) != SQLITE_OK) fail();
    }
    void insert(const char* sql, const std::string& key, const std::string& kind, const std::vector<char>& data) {
        sqlite3_stmt* s = nullptr;
        if (sqlite3_prepare_v2(db_, sql, -1, &s, nullptr) != SQLITE_OK) fail();
        sqlite3_bind_text(s, 1, key.c_str(), -1, SQLITE_TRANSIENT);
        sqlite3_bind_text(s, 2, kind.c_str(), -1, SQLITE_TRANSIENT);
        sqlite3_bind_blob64(s, 3, data.data(), data.size(), SQLITE_STATIC);
        const int code = sqlite3_step(s);
        sqlite3_finalize(s);
        if (code != SQLITE_DONE) fail();
    }
    /// Calls visit(text, text, blob, size) for each row.
    template <class Visit>
    void forRows(const char* sql, const Visit& visit) {
        sqlite3_stmt* s = nullptr;
        if (sqlite3_prepare_v2(db_, sql, -1, &s, nullptr) != SQLITE_OK) fail();
        int code = 0;
        try {
            while ((code = sqlite3_step(s)) == SQLITE_ROW) {
                auto text = [&](int column) {
                    const auto* t = sqlite3_column_text(s, column);
                    return std::string(t ? reinterpret_cast<const char*>(t) : "");
                };
                visit(text(0), text(1), static_cast<const char*>(sqlite3_column_blob(s, 2)),
                      static_cast<std::size_t>(sqlite3_column_bytes(s, 2)));
            }
        } catch (...) {
            sqlite3_finalize(s);
            throw;
        }
        sqlite3_finalize(s);
        if (code != SQLITE_DONE) fail();
    }

  private:
    std::string path_;
    sqlite3* db_ = nullptr;
};

}  // namespace escultura::store
