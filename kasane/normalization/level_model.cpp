#include <kasane/normalization/level_model.hpp>

#include <algorithm>
#include <array>

namespace kasane {

namespace {

constexpr std::array<std::string_view, 5> kModels = {"none", "scale", "offset", "planes", "local"};

} // namespace

std::string_view level_model_name(LevelModel model) {
    return kModels.at(static_cast<std::size_t>(model));
}

std::optional<LevelModel> level_model_named(std::string_view name) {
    const auto it = std::find(kModels.begin(), kModels.end(), name);
    if (it == kModels.end()) return std::nullopt;
    return static_cast<LevelModel>(it - kModels.begin());
}

} // namespace kasane
