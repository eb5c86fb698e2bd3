// Which pixels of each light were rejected, for whoever wants the lights themselves without them. Part of stage 6.
#pragma once

#include <kasane/stages/assemble.hpp>

#include <filesystem>
#include <map>
#include <string>

namespace kasane {

/// Of the lights of one master light.
class RejectedLights {
public:
    /// Integrates the stack, by interpolation, without keeping what comes of it; a comet is not looked after. What does
    /// not fit the memory lies in files without a name in `scratch`. A light that cannot be read is dropped. Throws
    /// DataError, Cancelled.
    RejectedLights(const Session& session, const Assembler& assembler, const JointStack& stack, const GroupCanvas& at,
                   const std::filesystem::path& scratch);

    /// "winsorized 3 3 among 24 lights"
    const std::string& text() const { return text_; }
    /// Whether the light was among them.
    bool has(const Light& light) const { return frames_.count(light.exposure->path) > 0; }
    /// Makes NaN what was rejected of a light that was put on the grid `grid` of the group; returns how many samples.
    std::int64_t blank_registered(const Light& light, const Canvas& grid, Image& image) const;
    /// The same of its own pixels, a mosaic as its sensor has it: each pixel by its own colour alone.
    std::int64_t blank_own(const Light& light, const FrameView& view, Image& image) const;

private:
    const Session& session_;
    Affine to_canvas_; ///< from the reference's pixels
    RejectedPixels pixels_;
    std::map<std::string, std::size_t> frames_; ///< by path
    std::string text_;
};

} // namespace kasane
