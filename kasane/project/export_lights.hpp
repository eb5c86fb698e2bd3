// Kept lights for another program: copied or linked into a folder. Originals stay where and what they are.
#pragma once

#include <kasane/project/grade.hpp>

#include <filesystem>

namespace kasane {

enum class ExportHow { copy, hard_link, symbolic_link };

struct LightExportOptions {
    std::filesystem::path target; ///< a folder outside the project
    ExportHow how = ExportHow::copy;
    bool dropped = false;      ///< the dropped ones instead of the kept ones
    std::string filter, night; ///< only these; empty: all
};

struct ExportedLights {
    int exported = 0, there_already = 0;
};

/// Fills the folder, keeping the sub-folders of the project. A file that is there with the same content is left; one
/// with other content is an error before anything is written. Throws UsageError (folder inside the project),
/// OutputError.
ExportedLights export_lights(const GradeReport& report, const LightExportOptions& options);

} // namespace kasane
