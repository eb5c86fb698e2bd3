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
constexpr int kSchema = 1;
constexpr const char* kFullRemedy = "Free some space and run again; finished work is kept";
} // namespace

struct Ledger::Database {
    explicit Database(const fs::path& file)
        : path(file), db(file.string(), SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE) {
        db.setBusyTimeout(5000);
        db.exec("PRAGMA journal_mode=WAL");
        db.exec("PRAGMA synchronous=NORMAL"); // a lost last fact is derived again
        if (db.execAndGet("PRAGMA quick_check").getString() != "ok") throw SQLite::Exception("the file is damaged", 11);
        const int schema = db.execAndGet("PRAGMA user_version").getInt();
        if (schema != 0 && schema != kSchema) { // of another version: derive again
            db.exec("DROP TABLE IF EXISTS files; DROP TABLE IF EXISTS facts; DROP TABLE IF EXISTS choices");
        }
        db.exec("CREATE TABLE IF NOT EXISTS files (path TEXT PRIMARY KEY, size INTEGER, modified INTEGER, record TEXT) "
                "WITHOUT ROWID");
        db.exec("CREATE TABLE IF NOT EXISTS facts (key TEXT PRIMARY KEY, kind TEXT, body BLOB)");
        db.exec("CREATE TABLE IF NOT EXISTS choices (name TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID");
        db.exec("PRAGMA user_version = " + std::to_string(kSchema));
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
    SQLite::Database db;
    std::recursive_mutex mutex;
};

Ledger::Ledger(const fs::path& folder) {
    require_writable_folder(folder);
    lock_ = ::open((folder / "lock").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
    if (lock_ < 0 || flock(lock_, LOCK_EX | LOCK_NB) != 0) {
        if (lock_ >= 0) ::close(lock_);
        throw UsageError("another run is working on this project", folder, "Wait until it has ended, or stop it");
    }
    const fs::path file = folder / "ledger.sqlite";
    try {
        database_ = std::make_unique<Database>(file);
    } catch (const SQLite::Exception& e) {
        was_damaged_ = true;
        std::error_code ignored;
        fs::rename(file, folder / "ledger.damaged", ignored);
        for (const char* tail : {"-wal", "-shm"})
            fs::remove(file.string() + tail, ignored);
        try {
            database_ = std::make_unique<Database>(file);
        } catch (const SQLite::Exception& again) {
            ::close(lock_);
            throw OutputError(std::string("the ledger cannot be made: ") + again.what(), file, kFullRemedy);
        }
    }
}

Ledger::~Ledger() {
    database_.reset();
    if (lock_ >= 0) ::close(lock_);
}

std::optional<Ledger::FileEntry> Ledger::file(const std::string& path) const {
    return database_->guarded([&]() -> std::optional<FileEntry> {
        SQLite::Statement q(database_->db, "SELECT size, modified, record FROM files WHERE path = ?");
        q.bind(1, path);
        if (!q.executeStep()) return std::nullopt;
        return FileEntry{static_cast<std::uint64_t>(q.getColumn(0).getInt64()), q.getColumn(1).getInt64(),
                         q.getColumn(2).getString()};
    });
}

void Ledger::set_file(const std::string& path, const FileEntry& e) {
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO files VALUES (?, ?, ?, ?)");
        q.bind(1, path);
        q.bind(2, static_cast<std::int64_t>(e.size));
        q.bind(3, e.modified);
        q.bind(4, e.record);
        q.exec();
    });
}

std::optional<std::string> Ledger::fact(const std::string& key) const {
    return database_->guarded([&]() -> std::optional<std::string> {
        SQLite::Statement q(database_->db, "SELECT body FROM facts WHERE key = ?");
        q.bind(1, key);
        if (!q.executeStep()) return std::nullopt;
        return q.getColumn(0).getString();
    });
}

void Ledger::set_fact(const std::string& key, const std::string& kind, const std::string& body) {
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)");
        q.bind(1, key);
        q.bind(2, kind);
        q.bind(3, body.data(), static_cast<int>(body.size()));
        q.exec();
    });
}

std::optional<std::string> Ledger::choice(const std::string& name) const {
    return database_->guarded([&]() -> std::optional<std::string> {
        SQLite::Statement q(database_->db, "SELECT value FROM choices WHERE name = ?");
        q.bind(1, name);
        if (!q.executeStep()) return std::nullopt;
        return q.getColumn(0).getString();
    });
}

void Ledger::set_choice(const std::string& name, const std::string& value) {
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO choices VALUES (?, ?)");
        q.bind(1, name);
        q.bind(2, value);
        q.exec();
    });
}

void Ledger::together(const std::function<void()>& work) {
    database_->guarded([&] {
        SQLite::Transaction transaction(database_->db);
        work();
        transaction.commit();
    });
}

} // namespace kasane
