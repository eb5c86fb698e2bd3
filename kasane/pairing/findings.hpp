// What a person should know before, or after, the work: one record for checks and for files set aside.
#pragma once

#include <string>
#include <vector>

namespace kasane {

enum class Level { note, warning, blocker };

std::string_view level_name(Level level);

struct Finding {
    Level level = Level::note;
    std::string code;               ///< stable: "flat-missing", "file-unreadable"
    std::vector<std::string> files; ///< relative to the project
    std::string text;               ///< what was found
    std::string remedy;             ///< what to do about it
};

} // namespace kasane
