// How a stack is drizzled (drizzle.hpp).
#pragma once

#include <array>
#include <cstddef>
#include <optional>
#include <string>
#include <string_view>

namespace kasane {

enum class DropShape { square, gaussian };
inline constexpr std::array<std::string_view, 2> kDropShapeNames = {"square", "gaussian"};
/// "square", ...
inline std::string_view drop_shape_name(DropShape shape) {
    return kDropShapeNames.at(static_cast<std::size_t>(shape));
}
inline std::optional<DropShape> drop_shape_named(std::string_view name) {
    for (std::size_t i = 0; i < kDropShapeNames.size(); ++i)
        if (kDropShapeNames[i] == name) return static_cast<DropShape>(i);
    return std::nullopt;
}

struct DrizzleOptions {
    double scale = 2;                    ///< output pixels along the side of one of the canvas, 1 to 3
    double drop = 0.7;                   ///< side of a square drop, FWHM of a round one, in pixels of a frame
    DropShape shape = DropShape::square; ///< of the drops
    bool restore = false;                ///< takes out again what pixels and drops blur (pixel_response.hpp)
    double smooth = 0; ///< FWHM of a Gaussian that what is restored is convolved with, pixels of a frame
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

} // namespace kasane
