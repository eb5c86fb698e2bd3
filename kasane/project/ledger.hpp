// The project's memory: what was derived from which content, so that nothing is computed twice.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>

namespace kasane {

/// A SQLite file under `.kasane/`. Everything in it can be derived again; deleting it costs time only. Thread-safe.
/// The schema has a version: an older ledger is brought up to date, a newer one put aside.
class Ledger {
public:
    enum class Use { work, look };

    /// Opens or makes `folder`/ledger.sqlite and locks the folder. A damaged ledger is put aside and begun anew
    /// (see was_damaged). Throws OutputError if the folder cannot be written, UsageError if another run holds it.
    /// To look, neither is an error: a ledger in use is read without being written to, and where there is none and none
    /// can be made, everything is unknown and nothing is kept.
    explicit Ledger(const std::filesystem::path& folder, Use use = Use::work);
    ~Ledger();
    Ledger(const Ledger&) = delete;
    Ledger& operator=(const Ledger&) = delete;

    /// Ends the work: others may, and nothing more is written.
    void let_go();

    bool was_damaged() const { return was_damaged_; }

    /// A file as it was when its header was read. `record` and `look` are bytes of the caller's.
    struct FileEntry {
        std::uint64_t size = 0;
        std::int64_t modified = 0; ///< nanoseconds
        std::string fingerprint;
        std::string content;  ///< digest of all bytes; empty as long as nothing was derived from the pixels
        std::string revision; ///< set where the content differs from an earlier one of the same fingerprint
        std::string record;
        std::string look;
    };
    std::unordered_map<std::string, FileEntry> files() const;
    /// Entries of one fingerprint, under whatever path they were last seen.
    std::optional<FileEntry> file_like(const std::string& fingerprint) const;
    void set_file(const std::string& path, const FileEntry& entry);
    void set_content(const std::string& path, const std::string& content);
    void set_look(const std::string& path, const std::string& look);

    /// Derived facts by key (a digest of everything they depend on).
    std::optional<std::string> fact(const std::string& key) const;
    void set_fact(const std::string& key, const std::string& kind, const std::string& body);

    /// Remembered choices by name ("reference/...").
    std::optional<std::string> choice(const std::string& name) const;
    void set_choice(const std::string& name, const std::string& value);
    /// All choices whose names begin with `prefix`.
    std::unordered_map<std::string, std::string> choices(const std::string& prefix) const;

    /// Runs `work` in one transaction.
    void together(const std::function<void()>& work);

private:
    struct Database;
    std::unique_ptr<Database> database_;
    int lock_ = -1;
    bool was_damaged_ = false;
};

} // namespace kasane
