#include <kasane/project/export_lights.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/project/export_header.hpp>

#include <fmt/format.h>
#include <vector>

namespace fs = std::filesystem;

namespace kasane {

namespace {

struct Task {
    fs::path from, to;
};

void carry_out(const Task& t, ExportHow how) {
    std::error_code failed;
    fs::create_directories(t.to.parent_path(), failed);
    if (how == ExportHow::copy) {
        write_file_safely(t.to, [&](const fs::path& temporary) {
            fs::copy_file(t.from, temporary, fs::copy_options::overwrite_existing, failed);
            if (failed) throw OutputError("the copy failed: " + failed.message(), t.to, "Check the space that is left");
        });
        return;
    }
    if (how == ExportHow::hard_link)
        fs::create_hard_link(t.from, t.to, failed);
    else
        fs::create_symlink(t.from, t.to, failed);
    if (failed)
        throw OutputError("the link could not be made: " + failed.message(), t.to,
                          how == ExportHow::hard_link ? "Hard links need one file system; use symlink or copy"
                                                      : "Use copy instead");
}

} // namespace

ExportedLights export_lights(const GradeReport& report, const LightExportOptions& o) {
    require_outside(report.folder, o.target);
    const fs::path project = fs::weakly_canonical(report.folder), target = fs::weakly_canonical(fs::absolute(o.target));
    ExportedLights done;
    std::vector<Task> tasks;
    for (const StackGrade& s : report.stacks)
        for (const FrameGrade& f : s.frames) {
            if (f.verdict.keep == o.dropped || (!o.filter.empty() && f.filter != o.filter) ||
                (!o.night.empty() && f.night != o.night))
                continue;
            const fs::path from = fs::weakly_canonical(project / f.path);
            const fs::path to = exported_place(target, f.path);
            std::error_code failed;
            if (fs::exists(fs::symlink_status(to, failed))) {
                if (!fs::is_regular_file(to, failed) || content_digest(to) != content_digest(from))
                    throw OutputError("is there already with other content", to,
                                      "Nothing was written; name another folder, or move the file away");
                ++done.there_already;
                continue;
            }
            tasks.push_back({from, to});
        }
    require_writable_folder(target);
    for (const Task& t : tasks) {
        carry_out(t, o.how);
        ++done.exported;
    }
    return done;
}

} // namespace kasane
