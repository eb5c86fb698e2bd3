// What a person says about the files: names of folders, values that headers lack or have wrong, files to leave out.
#pragma once

#include <kasane/frames/exposure.hpp>
#include <kasane/image/polygon.hpp>

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace kasane {

/// Values for the files whose path matches.
struct FileRule {
    std::string
        match; ///< a glob on the path relative to the project: '*' within a name, '**' across folders, '?', [abc]
    bool exclude = false;
    std::vector<std::pair<Field, std::string>> values;
    std::string mask;          ///< an image, white where there is sky, relative to the project; empty: none
    std::vector<Polygon> hide; ///< what is no sky, in pixels of the frame
};

struct FrameRules {
    /// What folders and file names mean: components as in "night-{night}/{role}/{filter}"; a component is text with
    /// {field} in it, or {} for anything. A path that does not have the shape is left alone.
    std::vector<std::string> layouts;
    std::vector<std::pair<Field, std::string>> assume; ///< where nothing else says
    std::vector<FileRule> files;                       ///< in order; later ones win
    std::vector<std::string> exclude;                  ///< globs
};

/// '*' within a component, '**' across components, '?', [abc]; a pattern without a slash is tried on the name alone.
bool glob_matches(const std::string& pattern, const std::string& path);
bool is_excluded(const FrameRules& rules, const std::string& path);

/// Applies layouts, rules and assumptions to a record; what a rule says that cannot be is added to its problems.
void apply_rules(Exposure& exposure, const FrameRules& rules);

/// What is wrong with a layout, or nothing: an unknown field, a brace left open.
std::string layout_problem(const std::string& layout);

} // namespace kasane
