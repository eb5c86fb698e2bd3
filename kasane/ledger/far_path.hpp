// A file that SQLite can open however long its path is. Not for others than ledger/.
#pragma once

#include <filesystem>
#include <string>

namespace kasane {

/// SQLite takes paths of up to 512 characters. A longer one is reached by way of its open folder, which has a short
/// name in /proc; this has to live as long as the database.
class FarPath {
public:
    explicit FarPath(const std::filesystem::path& file);
    ~FarPath();
    FarPath(const FarPath&) = delete;
    FarPath& operator=(const FarPath&) = delete;

    /// The path to be opened: the file's own, or the short one.
    const std::string& text() const { return text_; }
    /// Of SQLite, by name; empty: the usual one.
    const std::string& system() const { return system_; }

private:
    std::string text_, system_;
    int folder_ = -1;
};

} // namespace kasane
