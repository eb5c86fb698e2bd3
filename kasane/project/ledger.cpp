#include <kasane/project/ledger.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>

#include <SQLiteCpp/SQLiteCpp.h>
#include <fcntl.h>
#include <mutex>
#include <sys/file.h>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {
constexpr int kSchema = 2;
constexpr const char* kFullRemedy = "Free some space and run again; finished work is kept";

/// What leads from each version of the schema to the next. Version 0 is an empty file.
constexpr const char* kMigrations[kSchema] = {
    "CREATE TABLE files (path TEXT PRIMARY KEY, size INTEGER, modified INTEGER, record TEXT) WITHOUT ROWID;"
    "CREATE TABLE facts (key TEXT PRIMARY KEY, kind TEXT, body BLOB);"
    "CREATE TABLE choices (name TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;",
    // Records of version 1 held less than is wanted now: the headers are read again.
    "DROP TABLE files;"
    "CREATE TABLE files (path BLOB PRIMARY KEY, size INTEGER, modified INTEGER, fingerprint TEXT, content TEXT, "
    "revision TEXT, record BLOB, look BLOB);"
    "CREATE INDEX files_by_fingerprint ON files (fingerprint);",
};
} // namespace

struct Ledger::Database {
    Database(const fs::path& file, bool may_write)
        : path(file), writes(may_write),
          db(file.string(), may_write ? SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE : SQLite::OPEN_READONLY) {
        db.setBusyTimeout(5000);
        if (!writes) {
            if (db.execAndGet("PRAGMA user_version").getInt() != kSchema)
                throw SQLite::Exception("another version", 11);
            return;
        }
        db.exec("PRAGMA journal_mode=WAL");
        db.exec("PRAGMA synchronous=NORMAL"); // a lost last fact is derived again
        if (db.execAndGet("PRAGMA quick_check(1)").getString() != "ok")
            throw SQLite::Exception("the file is damaged", 11);
        const int schema = db.execAndGet("PRAGMA user_version").getInt();
        if (schema > kSchema || schema < 0) throw SQLite::Exception("of a newer version", 11);
        if (schema == kSchema) return;
        SQLite::Transaction transaction(db);
        for (int i = schema; i < kSchema; ++i)
            db.exec(kMigrations[i]);
        db.exec("PRAGMA user_version = " + std::to_string(kSchema));
        transaction.commit();
    }

    template <class F>
    auto guarded(F f) {
        const std::lock_guard lock(mutex);
        try {
            return f();
        } catch (const SQLite::Exception& e) {
            throw OutputError(std::string("the ledger cannot be used: ") + e.what(), path,
                              e.getErrorCode() == 13 ? kFullRemedy
                                                     : "Delete the folder .kasane and run again; it only costs time");
        }
    }

    fs::path path;
    bool writes;
    SQLite::Database db;
    std::recursive_mutex mutex;
};

Ledger::Ledger(const fs::path& folder, Use use) {
    const fs::path file = folder / "ledger.sqlite";
    if (use == Use::look) {
        std::error_code failed;
        try {
            require_writable_folder(folder);
        } catch (const OutputError&) {
            failed = std::make_error_code(std::errc::read_only_file_system);
        }
        if (!failed) lock_ = ::open((folder / "lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
        const bool mine = lock_ >= 0 && flock(lock_, LOCK_EX | LOCK_NB) == 0;
        if (!mine) {
            if (lock_ >= 0) ::close(lock_);
            lock_ = -1;
            try {
                if (fs::exists(file, failed)) database_ = std::make_unique<Database>(file, false);
            } catch (const SQLite::Exception&) { // unreadable: as if there were none
            }
            return;
        }
    } else {
        require_writable_folder(folder);
        lock_ = ::open((folder / "lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
        if (lock_ < 0 || flock(lock_, LOCK_EX | LOCK_NB) != 0) {
            if (lock_ >= 0) ::close(lock_);
            throw UsageError("another run is working on this project", folder, "Wait until it has ended, or stop it");
        }
    }
    try {
        database_ = std::make_unique<Database>(file, true);
    } catch (const SQLite::Exception& e) {
        was_damaged_ = true;
        std::error_code ignored;
        fs::rename(file, folder / "ledger.damaged", ignored);
        for (const char* tail : {"-wal", "-shm"})
            fs::remove(file.string() + tail, ignored);
        try {
            database_ = std::make_unique<Database>(file, true);
        } catch (const SQLite::Exception& again) {
            ::close(lock_);
            throw OutputError(std::string("the ledger cannot be made: ") + again.what(), file, kFullRemedy);
        }
    }
}

void Ledger::let_go() {
    if (database_) database_->writes = false;
    if (lock_ >= 0) ::close(lock_);
    lock_ = -1;
}

Ledger::~Ledger() {
    database_.reset();
    if (lock_ >= 0) ::close(lock_);
}

namespace {

Ledger::FileEntry entry_of(SQLite::Statement& q, int first) {
    Ledger::FileEntry e;
    e.size = static_cast<std::uint64_t>(q.getColumn(first).getInt64());
    e.modified = q.getColumn(first + 1).getInt64();
    e.fingerprint = q.getColumn(first + 2).getString();
    e.content = q.getColumn(first + 3).getString();
    e.revision = q.getColumn(first + 4).getString();
    e.record = q.getColumn(first + 5).getString();
    e.look = q.getColumn(first + 6).getString();
    return e;
}

void bind_bytes(SQLite::Statement& q, int at, const std::string& bytes) {
    q.bind(at, bytes.data(), static_cast<int>(bytes.size()));
}

} // namespace

std::unordered_map<std::string, Ledger::FileEntry> Ledger::files() const {
    std::unordered_map<std::string, FileEntry> out;
    if (!database_) return out;
    database_->guarded([&] {
        SQLite::Statement q(database_->db,
                            "SELECT path, size, modified, fingerprint, content, revision, record, look FROM files");
        while (q.executeStep())
            out.emplace(q.getColumn(0).getString(), entry_of(q, 1));
    });
    return out;
}

std::optional<Ledger::FileEntry> Ledger::file_like(const std::string& fingerprint) const {
    if (!database_) return std::nullopt;
    return database_->guarded([&]() -> std::optional<FileEntry> {
        SQLite::Statement q(database_->db,
                            "SELECT size, modified, fingerprint, content, revision, record, look FROM files "
                            "WHERE fingerprint = ? ORDER BY content = '' LIMIT 1");
        q.bind(1, fingerprint);
        if (!q.executeStep()) return std::nullopt;
        return entry_of(q, 0);
    });
}

void Ledger::set_file(const std::string& path, const FileEntry& e) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO files VALUES (?, ?, ?, ?, ?, ?, ?, ?)");
        bind_bytes(q, 1, path);
        q.bind(2, static_cast<std::int64_t>(e.size));
        q.bind(3, e.modified);
        q.bind(4, e.fingerprint);
        q.bind(5, e.content);
        q.bind(6, e.revision);
        bind_bytes(q, 7, e.record);
        bind_bytes(q, 8, e.look);
        q.exec();
    });
}

void Ledger::set_content(const std::string& path, const std::string& content) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "UPDATE files SET content = ? WHERE path = ?");
        q.bind(1, content);
        bind_bytes(q, 2, path);
        q.exec();
    });
}

void Ledger::set_look(const std::string& path, const std::string& look) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "UPDATE files SET look = ? WHERE path = ?");
        bind_bytes(q, 1, look);
        bind_bytes(q, 2, path);
        q.exec();
    });
}

std::optional<std::string> Ledger::fact(const std::string& key) const {
    if (!database_) return std::nullopt;
    return database_->guarded([&]() -> std::optional<std::string> {
        SQLite::Statement q(database_->db, "SELECT body FROM facts WHERE key = ?");
        q.bind(1, key);
        if (!q.executeStep()) return std::nullopt;
        return q.getColumn(0).getString();
    });
}

void Ledger::set_fact(const std::string& key, const std::string& kind, const std::string& body) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)");
        q.bind(1, key);
        q.bind(2, kind);
        q.bind(3, body.data(), static_cast<int>(body.size()));
        q.exec();
    });
}

std::optional<std::string> Ledger::choice(const std::string& name) const {
    if (!database_) return std::nullopt;
    return database_->guarded([&]() -> std::optional<std::string> {
        SQLite::Statement q(database_->db, "SELECT value FROM choices WHERE name = ?");
        q.bind(1, name);
        if (!q.executeStep()) return std::nullopt;
        return q.getColumn(0).getString();
    });
}

void Ledger::set_choice(const std::string& name, const std::string& value) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO choices VALUES (?, ?)");
        q.bind(1, name);
        q.bind(2, value);
        q.exec();
    });
}

std::unordered_map<std::string, std::string> Ledger::choices(const std::string& prefix) const {
    std::unordered_map<std::string, std::string> out;
    if (!database_) return out;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "SELECT name, value FROM choices WHERE substr(name, 1, length(?)) = ?");
        q.bind(1, prefix);
        q.bind(2, prefix);
        while (q.executeStep())
            out.emplace(q.getColumn(0).getString(), q.getColumn(1).getString());
    });
    return out;
}

void Ledger::together(const std::function<void()>& work) {
    if (!database_ || !database_->writes) return work();
    database_->guarded([&] {
        SQLite::Transaction transaction(database_->db);
        work();
        transaction.commit();
    });
}

} // namespace kasane
