/// @file store/database.hpp
/// A SQLite connection that closes itself and turns failures into errors. Internal to this folder.

#pragma once
#include <sqlite3.h>

#include <algorithm>
#include <cstdlib>
#include <map>
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
    /// What is larger than this is kept in several rows: SQLite refuses more than 1e9 bytes in one. Tests make it
    /// small.
    static inline std::size_t pieceSize = 400'000'000;

    /// One row, or one a piece: their keys end in "#1/3", their kinds in ", piece".
    void insert(const char* sql, const std::string& key, const std::string& kind, const std::vector<char>& data) {
        if (data.size() <= pieceSize) return insertRow(sql, key, kind, data.data(), data.size());
        const std::size_t count = (data.size() + pieceSize - 1) / pieceSize;
        for (std::size_t n = 0; n < count; ++n) {
            const std::size_t start = n * pieceSize;
            insertRow(sql, key + "#" + std::to_string(n + 1) + "/" + std::to_string(count), kind + pieceMark,
                      data.data() + start, std::min(pieceSize, data.size() - start));
        }
    }
    void insertRow(const char* sql, const std::string& key, const std::string& kind, const char* data,
                   std::size_t size) {
        sqlite3_stmt* s = nullptr;
        if (sqlite3_prepare_v2(db_, sql, -1, &s, nullptr) != SQLITE_OK) fail();
        sqlite3_bind_text(s, 1, key.c_str(), -1, SQLITE_TRANSIENT);
        sqlite3_bind_text(s, 2, kind.c_str(), -1, SQLITE_TRANSIENT);
        sqlite3_bind_blob64(s, 3, data, size, SQLITE_STATIC);
        const int code = sqlite3_step(s);
        sqlite3_finalize(s);
        if (code != SQLITE_DONE) fail();
    }
    /// Calls visit(text, text, blob, size) for each row; what insert() took apart comes in one piece again, last.
    /// @throws InputError when pieces are missing
    template <class Visit>
    void forRows(const char* sql, const Visit& visit) {
        struct Pieces {
            std::string kind;
            std::map<std::size_t, std::string> data;  ///< by number
            std::size_t count = 0;
        };
        std::map<std::string, Pieces> taken;  // by key
        forEachRow(sql, [&](const std::string& key, const std::string& kind, const char* data, std::size_t size) {
            const std::size_t hash = key.rfind('#'), slash = key.rfind('/');
            if (!kind.ends_with(pieceMark) || hash == std::string::npos || slash == std::string::npos || slash < hash)
                return visit(key, kind, data, size);
            Pieces& p = taken[key.substr(0, hash)];
            p.kind = kind.substr(0, kind.size() - std::string(pieceMark).size());
            p.count = std::strtoull(key.c_str() + slash + 1, nullptr, 10);
            p.data[std::strtoull(key.c_str() + hash + 1, nullptr, 10)].assign(data, size);
        });
        for (auto& [key, p] : taken) {
            if (p.data.size() != p.count || p.data.begin()->first != 1 || p.data.rbegin()->first != p.count)
                throw InputError(ErrorDetail{"The project file is damaged.", path_, p.kind + " " + key,
                                             std::to_string(p.count) + " pieces", std::to_string(p.data.size())});
            std::string whole;
            for (auto& [unused, piece] : p.data) {
                whole += piece;
                piece = {};
            }
            visit(key, p.kind, whole.data(), whole.size());
        }
    }

  private:
    static constexpr const char* pieceMark = ", piece";
    template <class Visit>
    void forEachRow(const char* sql, const Visit& visit) {
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

    std::string path_;
    sqlite3* db_ = nullptr;
};

}  // namespace escultura::store
