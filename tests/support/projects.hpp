// Simulated projects to run, and what their reports say.
#pragma once

#include "support/support.hpp"

#include <kasane/project/check.hpp>
#include <kasane/project/run.hpp>

#include <functional>
#include <map>
#include <string>

namespace kasane::test {

RunReport run(const std::filesystem::path& folder, int threads = 2);
StatusReport status_of(const std::filesystem::path& folder);

/// The first finding with this code, or null.
const Finding* find(const std::vector<Finding>& findings, const std::string& code);

/// Does something in the middle of a run: when a stage whose name begins so begins, once. Remembers how much each stage
/// had to do.
struct Meddler : Progress {
    std::map<std::string, std::function<void()>> at;
    std::map<std::string, std::int64_t> totals;
    void begin(const std::string& stage, std::int64_t total) override;
};

/// Writes a 16-bit FITS file anew with other pixels under its header.
void repaint(const std::filesystem::path& file, const std::function<void(Image&)>& change);
/// The same with its header.
void rewrite(const std::filesystem::path& file, const std::function<void(Image&, Header&)>& change);

void write_recipe(const std::filesystem::path& folder, const std::string& text);

/// A project of one's own, copied with its times of change from one that `write` wrote into `original` the first time.
struct ProjectCopy {
    TemporaryFolder folder;
    std::filesystem::path path;
    ProjectCopy(const TemporaryFolder& original, const std::function<void(const std::filesystem::path&)>& write);
};

template <auto write>
struct CopyOf : ProjectCopy {
    CopyOf() : ProjectCopy(original(), write) {}
    static const TemporaryFolder& original() {
        static const TemporaryFolder folder;
        return folder;
    }
};

} // namespace kasane::test
