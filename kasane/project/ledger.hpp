// The project's memory: what was derived from which content, so that nothing is computed twice.
#pragma once

#include <cstdint>
#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <string>

namespace kasane {

/// A SQLite file under `.kasane/`. Everything in it can be derived again; deleting it costs time only. Thread-safe.
class Ledger {
public:
    /// Opens or makes `folder`/ledger.sqlite and locks the folder. A damaged ledger is put aside and begun anew
    /// (see was_damaged). Throws OutputError if the folder cannot be written, UsageError if another run holds it.
    explicit Ledger(const std::filesystem::path& folder);
    ~Ledger();
    Ledger(const Ledger&) = delete;
    Ledger& operator=(const Ledger&) = delete;

    bool was_damaged() const { return was_damaged_; }

    /// A file as it was when its header was read. `record` is text of the caller's.
    struct FileEntry {
        std::uint64_t size = 0;
        std::int64_t modified = 0; ///< nanoseconds
        std::string record;
    };
    std::optional<FileEntry> file(const std::string& path) const;
    void set_file(const std::string& path, const FileEntry& entry);

    /// Derived facts by key (a digest of everything they depend on).
    std::optional<std::string> fact(const std::string& key) const;
    void set_fact(const std::string& key, const std::string& kind, const std::string& body);

    /// Remembered choices by name ("reference/...").
    std::optional<std::string> choice(const std::string& name) const;
    void set_choice(const std::string& name, const std::string& value);

    /// Runs `work` in one transaction.
    void together(const std::function<void()>& work);

private:
    struct Database;
    std::unique_ptr<Database> database_;
    int lock_ = -1;
    bool was_damaged_ = false;
};

} // namespace kasane
