// The project's memory: what was derived from which content, so that nothing is computed twice.
//
// The room holds, beside this:
//   keys.hpp         what results are keyed by; all keys are made here
//   basis.hpp        what a result was made from, and what has changed since
//   records.hpp      what a run has to tell
//   exposure_record.hpp  what is kept of a file
//   record_json.hpp  records as JSON and back
//   codec.hpp        records as bytes
//   far_path.hpp     paths longer than SQLite takes
#pragma once

#include <atomic>
#include <cstdint>
#include <filesystem>
#include <functional>
#include <initializer_list>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>

namespace kasane {

/// A SQLite file under `.kasane/`. Everything in it can be derived again; deleting it costs time only. Thread-safe, and
/// several processes may read it and write to it at once. The schema has a version: an older ledger is brought up to
/// date, a newer one put aside. Every row carries a digest of itself: one that does not fit is as if it were not there.
class Ledger {
public:
    enum class Use { work, look };

    /// Opens or makes `folder`/ledger.sqlite. To work, the folder is locked against other runs as long as this lives;
    /// to look, only while the ledger is opened. A ledger that is proven to be damaged is put aside, never over an
    /// earlier one, and begun anew (see was_damaged); a full disk, a failing one or a ledger that another program holds
    /// is none. Throws OutputError where it cannot be used, UsageError if another run holds it. To look, neither is an
    /// error: a ledger in use is read without being written to, and where none can be had, everything is unknown,
    /// nothing is kept, and `trouble` says why.
    explicit Ledger(const std::filesystem::path& folder, Use use = Use::work);
    ~Ledger();
    Ledger(const Ledger&) = delete;
    Ledger& operator=(const Ledger&) = delete;

    /// Ends the work: others may, and nothing more is written.
    void let_go();

    /// True where the process that worked here before was killed: it may have left temporary files.
    bool former_was_cut_off() const { return cut_off_; }
    bool was_damaged() const { return !put_aside_.empty(); }
    /// Where a damaged or newer ledger was put.
    const std::filesystem::path& put_aside() const { return put_aside_; }
    /// Why a ledger that is there is not used; empty: it is, or there is none.
    const std::string& trouble() const { return trouble_; }
    /// Rows that did not fit their digest, so far.
    int forgotten() const { return forgotten_; }

    /// A file as it was when its header was read. `record` and `look` are bytes of the caller's.
    struct FileEntry {
        std::uint64_t size = 0;
        std::int64_t modified = 0; ///< nanoseconds
        std::int64_t changed = 0;  ///< the same of anything about the file (base/file_stamp.hpp)
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
    void set_fact(const std::string& key, const std::string& body);

    /// Remembered choices by name ("reference/...").
    std::optional<std::string> choice(const std::string& name) const;
    void set_choice(const std::string& name, const std::string& value);
    /// All choices whose names begin with `prefix`.
    std::unordered_map<std::string, std::string> choices(const std::string& prefix) const;

    /// Runs `work` in one transaction.
    void together(const std::function<void()>& work);

private:
    struct Database;
    void open_to_work(const std::filesystem::path& file);
    void unlock();
    void open_to_look(const std::filesystem::path& folder, const std::filesystem::path& file);
    void open_or_begin_anew(const std::filesystem::path& file);
    void change_file(const std::string& path, const std::function<void(FileEntry&)>& change);
    bool fits(const std::string& found, std::initializer_list<std::string_view> parts) const;

    std::unique_ptr<Database> database_;
    int lock_ = -1;
    bool cut_off_ = false;
    std::filesystem::path put_aside_;
    std::string trouble_;
    mutable std::atomic<int> forgotten_{0};
};

} // namespace kasane
