// Images that are made of several master lights.
#pragma once

#include <array>
#include <optional>
#include <string_view>

namespace kasane {

enum class CompositeKind {
    all_filters, ///< everything that was taken of a target, each filter scaled to the same noise
    luminance,   ///< of L, R, G and B, or of the colours of a mosaic, scaled by their stars
};
inline constexpr std::array<CompositeKind, 2> kCompositeKinds{CompositeKind::all_filters, CompositeKind::luminance};

inline constexpr std::string_view composite_name(CompositeKind kind) {
    return kind == CompositeKind::luminance ? "luminance" : "all-filters";
}

inline constexpr std::optional<CompositeKind> composite_named(std::string_view name) {
    for (const CompositeKind k : kCompositeKinds)
        if (composite_name(k) == name) return k;
    return std::nullopt;
}

} // namespace kasane
