// Finding the files of a project below its folders. Part of stage 1.
#pragma once

#include <kasane/base/file_stamp.hpp>
#include <kasane/frames/rules.hpp>
#include <kasane/stages/scan.hpp>

#include <filesystem>
#include <set>
#include <string>
#include <sys/types.h>
#include <utility>
#include <vector>

namespace kasane {

/// PNG and JPEG: often made of an exposure rather than being one.
bool is_picture_name(const std::filesystem::path& name);

struct FoundFile {
    std::string path; ///< relative
    FileStamp stamp;
};

/// Walks folders without following a link twice.
class FolderWalk {
public:
    /// Passes over the folder `skip`, may be empty; tells `scan` of what cannot be read.
    FolderWalk(const std::filesystem::path& skip, const FrameRules& rules, Scan& scan);

    /// Everything below a folder; links to folders last, so that files keep the paths of the folders they lie in.
    /// `prefix` is how paths below begin, relative to the project.
    void all(const std::filesystem::path& full, const std::string& prefix);

    const std::vector<std::string>& excluded() const { return excluded_; }
    /// What was found, by path.
    std::vector<FoundFile> sorted();

private:
    void folder(const std::filesystem::path& full, const std::string& prefix);
    void exclude(const std::string& path);
    void unreadable(const std::string& path, const std::string& what, const std::string& remedy);

    const FrameRules& rules_;
    Scan& scan_;
    std::vector<FoundFile> found_;
    std::vector<std::string> excluded_;
    std::vector<std::pair<std::filesystem::path, std::string>> links_;
    std::set<std::pair<dev_t, ino_t>> seen_;
};

} // namespace kasane
