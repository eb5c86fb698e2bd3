#include <kasane/ledger/far_path.hpp>

#include <cstring>
#include <fcntl.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr const char* kName = "kasane-as-named";
constexpr std::size_t kMost = 480; // of 512; beside the file lie others with longer names

/// The usual one would follow the name in /proc to the long path.
int as_named(sqlite3_vfs*, const char* name, int size, char* out) {
    if (std::strlen(name) >= static_cast<std::size_t>(size)) return SQLITE_CANTOPEN;
    std::strcpy(out, name);
    return SQLITE_OK;
}

bool have_system() {
    static const bool registered = [] {
        sqlite3_initialize();
        const sqlite3_vfs* usual = sqlite3_vfs_find(nullptr);
        if (!usual) return false;
        static sqlite3_vfs own = *usual;
        own.zName = kName;
        own.pNext = nullptr;
        own.xFullPathname = as_named;
        return sqlite3_vfs_register(&own, 0) == SQLITE_OK;
    }();
    return registered;
}

} // namespace

FarPath::FarPath(const fs::path& file) : text_(file.string()) {
    std::error_code failed;
    const fs::path whole = fs::absolute(file, failed);
    if (!failed && whole.string().size() <= kMost) return;
    const fs::path folder = file.has_parent_path() ? file.parent_path() : fs::path(".");
    folder_ = ::open(folder.c_str(), O_PATH | O_DIRECTORY | O_CLOEXEC);
    if (folder_ < 0 || !have_system()) return; // SQLite will say what is wrong
    text_ = fmt::format("/proc/self/fd/{}/{}", folder_, file.filename().string());
    system_ = kName;
}

FarPath::~FarPath() {
    if (folder_ >= 0) ::close(folder_);
}

} // namespace kasane
