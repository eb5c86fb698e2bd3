#include <kasane/stages/folder_walk.hpp>

#include <kasane/io/reader.hpp>

#include <algorithm>
#include <cctype>
#include <cerrno>
#include <dirent.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <system_error>

namespace fs = std::filesystem;

namespace kasane {

bool is_picture_name(const fs::path& name) {
    std::string ending = name.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) { return std::tolower(c); });
    return ending == ".png" || ending == ".jpg" || ending == ".jpeg";
}

FolderWalk::FolderWalk(const fs::path& skip, const FrameRules& rules, Scan& scan) : rules_(rules), scan_(scan) {
    struct stat info {};
    if (!skip.empty() && stat(skip.c_str(), &info) == 0) seen_.insert({info.st_dev, info.st_ino});
}

void FolderWalk::all(const fs::path& full, const std::string& prefix) {
    folder(full, prefix);
    while (!links_.empty()) {
        const auto [link, path] = links_.back();
        links_.pop_back();
        folder(link, path);
    }
}

std::vector<FoundFile> FolderWalk::sorted() {
    std::sort(found_.begin(), found_.end(), [](const FoundFile& a, const FoundFile& b) { return a.path < b.path; });
    return std::move(found_);
}

void FolderWalk::folder(const fs::path& full, const std::string& prefix) {
    struct stat info {};
    if (stat(full.c_str(), &info) == 0 && !seen_.insert({info.st_dev, info.st_ino}).second) return;
    DIR* open = opendir(full.c_str());
    if (!open) {
        unreadable(prefix.empty() ? full.string() : prefix, std::generic_category().message(errno),
                   "Check that the folder may be read");
        return;
    }
    struct Entry {
        std::string name;
        bool readable = false, picture = false; ///< as its name says
    };
    std::vector<Entry> entries;
    while (const dirent* e = readdir(open)) {
        const bool readable = is_readable_name(e->d_name);
        entries.push_back({e->d_name, readable, readable && is_picture_name(e->d_name)});
    }
    std::sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) { return a.name < b.name; });
    // Cameras write a picture beside the raw file, Kasane a preview beside a master light: one exposure, not two.
    std::set<std::string> originals;
    for (const Entry& e : entries)
        if (e.readable && !e.picture) originals.insert(fs::path(e.name).stem().string());
    const int handle = dirfd(open);
    std::vector<std::string> below;
    for (const auto& [name, readable, picture] : entries) {
        if (name.front() == '.') continue; // hidden, and the folder itself
        const std::string path = prefix.empty() ? name : prefix + "/" + name;
        if (fstatat(handle, name.c_str(), &info, 0) != 0) {
            if (readable) unreadable(path, "cannot be read (a broken link?)", "Restore or remove it");
            continue;
        }
        if (S_ISDIR(info.st_mode)) {
            if (is_excluded(rules_, path))
                exclude(path);
            else if (readable)
                unreadable(path, "is a folder, though its name is that of an image", "Rename or remove it");
            else if (struct stat self{};
                     fstatat(handle, name.c_str(), &self, AT_SYMLINK_NOFOLLOW) == 0 && S_ISLNK(self.st_mode))
                links_.emplace_back(full / name, path);
            else
                below.push_back(name);
        } else if (!S_ISREG(info.st_mode) || !readable ||
                   (picture && originals.count(fs::path(name).stem().string()) > 0) || name.ends_with(".preview.png")) {
            ++scan_.other_files;
        } else if (is_excluded(rules_, path)) {
            exclude(path);
        } else {
            found_.push_back({path, file_stamp(info)});
        }
    }
    closedir(open);
    for (const std::string& name : below)
        folder(full / name, prefix.empty() ? name : prefix + "/" + name);
}

void FolderWalk::exclude(const std::string& path) {
    ++scan_.excluded;
    excluded_.push_back(path);
}

void FolderWalk::unreadable(const std::string& path, const std::string& what, const std::string& remedy) {
    scan_.unreadable.push_back(path);
    scan_.findings.push_back({Level::warning, "file-unreadable", {path}, what, remedy});
}

} // namespace kasane
