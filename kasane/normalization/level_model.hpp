// What of the frames of a stack is brought to one level.
#pragma once

#include <optional>
#include <string_view>

namespace kasane {

/// What is brought to one level.
enum class LevelModel {
    none,   ///< nothing: frames are taken as they are
    scale,  ///< a factor alone
    offset, ///< a factor and a constant
    planes, ///< a factor, and a constant with a tilt
    local,  ///< a factor that may tilt, and an offset as smooth as the frames' sky asks for
};
/// "none", "scale", ...
std::string_view level_model_name(LevelModel model);
std::optional<LevelModel> level_model_named(std::string_view name);

} // namespace kasane
