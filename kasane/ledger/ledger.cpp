#include <kasane/ledger/ledger.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/ledger/far_path.hpp>

#include <SQLiteCpp/SQLiteCpp.h>
#include <cerrno>
#include <chrono>
#include <fcntl.h>
#include <fmt/compile.h>
#include <fmt/format.h>
#include <fstream>
#include <mutex>
#include <sqlite3.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <thread>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr int kSchema = 3;
constexpr int kBusyWait = 20000; // milliseconds
constexpr auto kLockWait = std::chrono::seconds(3);

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
    // Rows with a digest of themselves. What was derived is keyed in another way since, and derived again.
    "DROP TABLE files;"
    "CREATE TABLE files (path BLOB PRIMARY KEY, size INTEGER, modified INTEGER, changed INTEGER, fingerprint TEXT, "
    "content TEXT, revision TEXT, record BLOB, look BLOB, digest TEXT);"
    "CREATE INDEX files_by_fingerprint ON files (fingerprint);"
    "DROP TABLE facts;"
    "CREATE TABLE facts (key TEXT PRIMARY KEY, body BLOB, digest TEXT);"
    "ALTER TABLE choices ADD COLUMN digest TEXT;"
    "UPDATE choices SET digest = row_digest('choice', name, value);",
};

std::string digest_of(std::initializer_list<std::string_view> parts) {
    thread_local Digester d; // its memory serves for thousands of rows
    d.clear();
    for (const std::string_view part : parts)
        d.add(part);
    return d.result();
}

/// The same in SQL, for migrations.
void digest_in_sql(sqlite3_context* context, int count, sqlite3_value** values) {
    Digester d;
    for (int i = 0; i < count; ++i) {
        const auto* text = static_cast<const char*>(sqlite3_value_blob(values[i]));
        d.add(text ? std::string_view(text, static_cast<std::size_t>(sqlite3_value_bytes(values[i]))) : "");
    }
    const std::string result = d.result();
    sqlite3_result_text(context, result.data(), static_cast<int>(result.size()), SQLITE_TRANSIENT);
}

struct NewerLedger {};

bool may_be_damage(const SQLite::Exception& e) {
    return e.getErrorCode() == SQLITE_CORRUPT || e.getErrorCode() == SQLITE_NOTADB;
}

/// Only what the file itself shows counts, not what an access to it failed with.
bool is_proven_damaged(const fs::path& file) {
    std::ifstream in(file, std::ios::binary);
    char head[16] = {};
    in.read(head, sizeof head);
    if (!in.eof() && !in) return false; // it cannot be read: that is no proof
    if (in.gcount() > 0 &&
        std::string_view(head, static_cast<std::size_t>(in.gcount())) !=
            std::string_view("SQLite format 3\0", 16).substr(0, static_cast<std::size_t>(in.gcount())))
        return true;
    try {
        const FarPath place(file);
        SQLite::Database db(place.text(), SQLite::OPEN_READONLY, kBusyWait, place.system());
        return db.execAndGet("PRAGMA integrity_check(1)").getString() != "ok";
    } catch (const SQLite::Exception& e) {
        return may_be_damage(e);
    }
}

/// A name beside `file` that is not taken yet: "ledger.damaged", "ledger.damaged-2", ...
fs::path free_name(const fs::path& file, const std::string& ending) {
    std::error_code ignored;
    fs::path name = file.parent_path() / ("ledger." + ending);
    for (int n = 2; fs::exists(fs::symlink_status(name, ignored)); ++n)
        name = file.parent_path() / fmt::format("ledger.{}-{}", ending, n);
    return name;
}

OutputError failure(const SQLite::Exception& e, const fs::path& file) {
    std::error_code unknown;
    const auto space = fs::space(file.parent_path(), unknown);
    const bool full = e.getErrorCode() == SQLITE_FULL || (!unknown && space.available < (1u << 20));
    if (full)
        return OutputError("the ledger cannot be written: the disk is full", file,
                           "Free some space and run again; finished work is kept");
    switch (e.getErrorCode()) {
    case SQLITE_BUSY:
    case SQLITE_LOCKED:
        return OutputError("the ledger is held by another program", file, "Wait until that has ended, then run again");
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB:
        return OutputError(fmt::format("the ledger is damaged: {}", e.what()), file,
                           "Run again: it will be looked through, and put aside if that is so");
    case SQLITE_READONLY:
    case SQLITE_PERM:
    case SQLITE_CANTOPEN:
        return OutputError(fmt::format("the ledger cannot be opened: {}", e.what()), file,
                           "Make the file and its folder writable, or name another place with --output");
    default:
        return OutputError(fmt::format("the ledger cannot be used: {}", e.what()), file,
                           "Check the disk and run again; finished work is kept");
    }
}

} // namespace

struct Ledger::Database {
    enum class Access { write, read, read_unlocked };

    Database(const fs::path& file, Access access)
        : path(file), place(file), writes(access == Access::write),
          db(access == Access::read_unlocked ? "file:" + uri_of(place.text()) + "?immutable=1" : place.text(),
             access == Access::write  ? SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE
             : access == Access::read ? SQLite::OPEN_READONLY
                                      : SQLite::OPEN_READONLY | SQLite::OPEN_URI,
             kBusyWait, place.system()) {
        if (!writes) {
            if (db.execAndGet("PRAGMA user_version").getInt() != kSchema) throw NewerLedger{};
            return;
        }
        const int schema = db.execAndGet("PRAGMA user_version").getInt();
        if (schema > kSchema || schema < 0) throw NewerLedger{};
        db.exec("PRAGMA journal_mode=WAL");
        db.exec("PRAGMA synchronous=NORMAL"); // a lost last fact is derived again
        if (db.execAndGet("PRAGMA quick_check(1)").getString() != "ok")
            throw SQLite::Exception("the file is damaged", SQLITE_CORRUPT);
        if (schema == kSchema) return;
        sqlite3_create_function_v2(db.getHandle(), "row_digest", -1, SQLITE_UTF8 | SQLITE_DETERMINISTIC, nullptr,
                                   digest_in_sql, nullptr, nullptr, nullptr);
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
            throw failure(e, path);
        }
    }

    fs::path path;
    FarPath place; ///< of it, for SQLite
    bool writes;
    SQLite::Database db;
    std::optional<SQLite::Statement> fact_query; ///< kept: to prepare it takes ten times as long as to ask
    std::recursive_mutex mutex;

private:
    static std::string uri_of(const std::string& file) {
        std::string out;
        for (const char c : fs::absolute(file).string())
            out += c == '%' || c == '?' || c == '#' ? fmt::format("%{:02x}", static_cast<unsigned char>(c))
                                                    : std::string(1, c);
        return out;
    }
};

Ledger::Ledger(const fs::path& folder, Use use) {
    const fs::path file = folder / "ledger.sqlite";
    if (use == Use::look) {
        open_to_look(folder, file);
        return;
    }
    require_writable_folder(folder);
    open_to_work(file);
    // What works leaves a byte in the lock until it ends in order.
    struct stat info {};
    cut_off_ = fstat(lock_, &info) == 0 && info.st_size > 0;
    if (!cut_off_ && ::write(lock_, "w", 1) != 1) cut_off_ = true; // cannot be told the next time
}

void Ledger::unlock() {
    if (lock_ < 0) return;
    [[maybe_unused]] const int failed = ::ftruncate(lock_, 0); // then leftovers are looked for once more
    ::close(lock_);
    lock_ = -1;
}

void Ledger::open_to_work(const fs::path& file) {
    const fs::path lock = file.parent_path() / "lock";
    lock_ = ::open(lock.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0644);
    if (lock_ < 0)
        throw OutputError("the lock cannot be opened: " + std::generic_category().message(errno), lock,
                          "Make it writable, or delete it; it holds nothing");
    // Those who only look hold it for a moment.
    const auto give_up = std::chrono::steady_clock::now() + kLockWait;
    while (flock(lock_, LOCK_EX | LOCK_NB) != 0) {
        const int failed = errno;
        if (failed == EINTR) continue;
        if (failed == EWOULDBLOCK && std::chrono::steady_clock::now() < give_up) {
            std::this_thread::sleep_for(std::chrono::milliseconds(50));
            continue;
        }
        ::close(lock_);
        lock_ = -1;
        if (failed == EWOULDBLOCK)
            throw UsageError("another run is working on this project", file.parent_path(),
                             "Wait until it has ended, or stop it");
        throw OutputError("the lock cannot be had: " + std::generic_category().message(failed), lock,
                          "Use a local disk, or name another place with --output");
    }
    try {
        open_or_begin_anew(file);
    } catch (...) {
        ::close(lock_);
        lock_ = -1;
        throw;
    }
}

void Ledger::open_or_begin_anew(const fs::path& file) {
    std::string ending;
    try {
        database_ = std::make_unique<Database>(file, Database::Access::write);
        return;
    } catch (const NewerLedger&) {
        ending = "newer";
    } catch (const SQLite::Exception& e) {
        if (!may_be_damage(e) || !is_proven_damaged(file)) throw failure(e, file);
        ending = "damaged";
    }
    std::error_code failed;
    put_aside_ = free_name(file, ending);
    fs::rename(file, put_aside_, failed);
    if (failed)
        throw OutputError(fmt::format("the ledger is {}, and cannot be put aside: {}",
                                      ending == "newer" ? "of a newer version of Kasane" : "damaged", failed.message()),
                          file, "Move it away");
    for (const char* tail : {"-wal", "-shm"})
        fs::rename(file.string() + tail, put_aside_.string() + tail, failed);
    try {
        database_ = std::make_unique<Database>(file, Database::Access::write);
    } catch (const SQLite::Exception& again) {
        throw failure(again, file);
    }
}

void Ledger::open_to_look(const fs::path& folder, const fs::path& file) {
    try {
        require_writable_folder(folder);
        open_to_work(file);
        ::close(lock_); // others may work meanwhile: what is written by looking agrees with what they write
        lock_ = -1;
        return;
    } catch (const OutputError& e) { // read-only, full
        trouble_ = e.what_failed();
    } catch (const UsageError&) { // in use: only read
    }
    std::error_code failed;
    if (!fs::exists(file, failed)) {
        trouble_.clear();
        return;
    }
    for (const auto access : {Database::Access::read, Database::Access::read_unlocked}) {
        try {
            database_ = std::make_unique<Database>(file, access);
            trouble_.clear();
            return;
        } catch (const SQLite::Exception& e) { // as if there were none, but said
            if (trouble_.empty()) trouble_ = e.what();
        } catch (const NewerLedger&) {
            if (trouble_.empty()) trouble_ = "the ledger is of another version of Kasane";
        }
    }
}

void Ledger::let_go() {
    if (database_) database_->writes = false;
    unlock();
}

Ledger::~Ledger() {
    database_.reset();
    unlock();
}

bool Ledger::fits(const std::string& found, std::initializer_list<std::string_view> parts) const {
    if (found == digest_of(parts)) return true;
    ++forgotten_;
    return false;
}

namespace {

/// A row of files, whose columns begin at `first`: all of the table but the path.
Ledger::FileEntry entry_of(SQLite::Statement& q, int first) {
    Ledger::FileEntry e;
    e.size = static_cast<std::uint64_t>(q.getColumn(first).getInt64());
    e.modified = q.getColumn(first + 1).getInt64();
    e.changed = q.getColumn(first + 2).getInt64();
    e.fingerprint = q.getColumn(first + 3).getString();
    e.content = q.getColumn(first + 4).getString();
    e.revision = q.getColumn(first + 5).getString();
    e.record = q.getColumn(first + 6).getString();
    e.look = q.getColumn(first + 7).getString();
    return e;
}

std::string digest_of(const std::string& path, const Ledger::FileEntry& e) {
    char numbers[80];
    const auto end = fmt::format_to_n(numbers, sizeof numbers, FMT_COMPILE("{} {} {}"), e.size, e.modified, e.changed);
    return digest_of(
        {path, std::string_view(numbers, end.size), e.fingerprint, e.content, e.revision, e.record, e.look});
}

void bind_bytes(SQLite::Statement& q, int at, const std::string& bytes) {
    q.bind(at, bytes.data(), static_cast<int>(bytes.size()));
}

constexpr const char* kFileColumns =
    "path, size, modified, changed, fingerprint, content, revision, record, look, digest";

} // namespace

std::unordered_map<std::string, Ledger::FileEntry> Ledger::files() const {
    std::unordered_map<std::string, FileEntry> out;
    if (!database_) return out;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, fmt::format("SELECT {} FROM files", kFileColumns));
        while (q.executeStep()) {
            const std::string path = q.getColumn(0).getString();
            FileEntry e = entry_of(q, 1);
            if (digest_of(path, e) == q.getColumn(9).getText())
                out.emplace(path, std::move(e));
            else
                ++forgotten_;
        }
    });
    return out;
}

std::optional<Ledger::FileEntry> Ledger::file_like(const std::string& fingerprint) const {
    if (!database_) return std::nullopt;
    return database_->guarded([&]() -> std::optional<FileEntry> {
        SQLite::Statement q(database_->db, fmt::format("SELECT {} FROM files WHERE fingerprint = ? "
                                                       "ORDER BY content = '' LIMIT 1",
                                                       kFileColumns));
        q.bind(1, fingerprint);
        if (!q.executeStep()) return std::nullopt;
        FileEntry e = entry_of(q, 1);
        if (q.getColumn(9).getString() == digest_of(q.getColumn(0).getString(), e)) return e;
        ++forgotten_;
        return std::nullopt;
    });
}

void Ledger::set_file(const std::string& path, const FileEntry& e) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO files VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)");
        bind_bytes(q, 1, path);
        q.bind(2, static_cast<std::int64_t>(e.size));
        q.bind(3, e.modified);
        q.bind(4, e.changed);
        q.bind(5, e.fingerprint);
        q.bind(6, e.content);
        q.bind(7, e.revision);
        bind_bytes(q, 8, e.record);
        bind_bytes(q, 9, e.look);
        q.bind(10, digest_of(path, e));
        q.exec();
    });
}

void Ledger::change_file(const std::string& path, const std::function<void(FileEntry&)>& change) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        FileEntry e;
        {
            SQLite::Statement q(database_->db, fmt::format("SELECT {} FROM files WHERE path = ?", kFileColumns));
            bind_bytes(q, 1, path);
            if (!q.executeStep()) return;
            e = entry_of(q, 1);
            if (q.getColumn(9).getString() != digest_of(path, e)) return;
        }
        change(e);
        set_file(path, e);
    });
}

void Ledger::set_content(const std::string& path, const std::string& content) {
    change_file(path, [&](FileEntry& e) { e.content = content; });
}

void Ledger::set_look(const std::string& path, const std::string& look) {
    change_file(path, [&](FileEntry& e) { e.look = look; });
}

std::optional<std::string> Ledger::fact(const std::string& key) const {
    if (!database_) return std::nullopt;
    return database_->guarded([&]() -> std::optional<std::string> {
        if (!database_->fact_query)
            database_->fact_query.emplace(database_->db, "SELECT body, digest FROM facts WHERE key = ?");
        SQLite::Statement& q = *database_->fact_query;
        const std::unique_ptr<SQLite::Statement, void (*)(SQLite::Statement*)> afterwards(
            &q, [](SQLite::Statement* s) { s->tryReset(); }); // nobody is kept from writing
        q.bind(1, key);
        if (!q.executeStep()) return std::nullopt;
        std::string body = q.getColumn(0).getString();
        return fits(q.getColumn(1).getString(), {"fact", key, body}) ? std::optional(std::move(body)) : std::nullopt;
    });
}

void Ledger::set_fact(const std::string& key, const std::string& body) {
    if (!database_ || !database_->writes) return;
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO facts VALUES (?, ?, ?)");
        q.bind(1, key);
        bind_bytes(q, 2, body);
        q.bind(3, digest_of({"fact", key, body}));
        q.exec();
    });
}

std::optional<std::string> Ledger::choice(const std::string& name) const {
    if (!database_) return std::nullopt;
    return database_->guarded([&]() -> std::optional<std::string> {
        SQLite::Statement q(database_->db, "SELECT value, digest FROM choices WHERE name = ?");
        q.bind(1, name);
        if (!q.executeStep()) return std::nullopt;
        std::string value = q.getColumn(0).getString();
        return fits(q.getColumn(1).getString(), {"choice", name, value}) ? std::optional(std::move(value))
                                                                         : std::nullopt;
    });
}

void Ledger::set_choice(const std::string& name, const std::string& value) {
    if (!database_ || !database_->writes || choice(name) == value) return; // to write costs far more than to ask
    database_->guarded([&] {
        SQLite::Statement q(database_->db, "INSERT OR REPLACE INTO choices VALUES (?, ?, ?)");
        q.bind(1, name);
        q.bind(2, value);
        q.bind(3, digest_of({"choice", name, value}));
        q.exec();
    });
}

std::unordered_map<std::string, std::string> Ledger::choices(const std::string& prefix) const {
    std::unordered_map<std::string, std::string> out;
    if (!database_) return out;
    database_->guarded([&] {
        SQLite::Statement q(database_->db,
                            "SELECT name, value, digest FROM choices WHERE substr(name, 1, length(?)) = ?");
        q.bind(1, prefix);
        q.bind(2, prefix);
        while (q.executeStep()) {
            const std::string name = q.getColumn(0).getString(), value = q.getColumn(1).getString();
            if (fits(q.getColumn(2).getString(), {"choice", name, value})) out.emplace(name, value);
        }
    });
    return out;
}

void Ledger::together(const std::function<void()>& work) {
    if (!database_ || !database_->writes) return work();
    database_->guarded([&] {
        SQLite::Transaction transaction(database_->db, SQLite::TransactionBehavior::IMMEDIATE);
        work();
        transaction.commit();
    });
}

} // namespace kasane
