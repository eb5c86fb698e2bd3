// Colour filter arrays: which colour each sensor pixel sees.
#pragma once

#include <kasane/image/statistics.hpp>

#include <array>
#include <cstdint>
#include <string>

namespace kasane {

/// The pattern of a colour filter array, repeated over the sensor: 2 x 2 (Bayer, in any of its phases) or 6 x 6.
class CfaPattern {
public:
    CfaPattern() = default; ///< a mono sensor
    /// Colours of the first pixels row by row, 4 or 36 letters of R, G and B ("RGGB"); empty for mono. Throws
    /// UsageError if there are other letters or lengths, or a colour is missing.
    explicit CfaPattern(const std::string& letters);

    bool empty() const { return period_ == 0; }
    int period() const { return period_; } ///< pixels until it repeats: 2 or 6
    /// Side of the smallest square that holds every colour: 2, or 3 for the 6 x 6 patterns in use.
    int cell() const { return period_ == 6 ? 3 : 2; }
    /// 0 red, 1 green, 2 blue; 0 everywhere on a mono sensor. Any x and y.
    int colour(int x, int y) const {
        if (period_ == 0) return 0;
        const int i = ((x % period_) + period_) % period_, j = ((y % period_) + period_) % period_;
        return colours_[static_cast<std::size_t>(j * period_ + i)];
    }
    int colours() const { return period_ == 0 ? 1 : 3; }
    /// Of 2 x 2 pixels, the two of a diagonal green: Bayer's, in any phase. Letters may tell others.
    bool checkered() const {
        return period_ == 2 && ((colours_[0] == 1 && colours_[3] == 1) || (colours_[1] == 1 && colours_[2] == 1));
    }
    /// The pattern when the first pixel is `dx`, `dy` pixels further on.
    CfaPattern shifted(int dx, int dy) const;
    std::string letters() const;
    /// The two shortest steps that lead from every pixel of a colour to another of it; of a mono sensor to its
    /// neighbours.
    NoiseSteps steps(int colour) const;
    bool operator==(const CfaPattern&) const = default;

private:
    int period_ = 0;
    std::array<std::uint8_t, 36> colours_{};
};

} // namespace kasane
