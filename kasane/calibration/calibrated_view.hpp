// A light as it should have been: any rectangle of a raw exposure, calibrated when it is asked for and never stored.
#pragma once

#include <kasane/calibration/defects.hpp>
#include <kasane/io/reader.hpp>

#include <memory>

namespace kasane {

/// What calibrates a light. Any part may be missing.
struct CalibrationSet {
    std::shared_ptr<const FrameReader> dark; ///< master dark or bias, ADU
    std::shared_ptr<const FrameReader> flat; ///< master flat
    float flat_level = 1;                    ///< what it is divided by first: 1 for Kasane's own, whose mean is 1
    std::shared_ptr<const DefectList> defects;
    std::shared_ptr<const FrameReader> bias = nullptr; ///< only with a scaled dark: master bias, ADU
    float dark_scale = 1;                              ///< of what the dark holds above the bias; 1 without a bias
    float offset_level = 0;                            ///< without dark and bias: a constant, ADU
};

/// (raw - dark) / (flat / flat_level), or with a scaled dark (raw - bias - scale (dark - bias)) / ..., defects replaced
/// by the median of their sound neighbours. Thread-safe.
class CalibratedView {
public:
    /// Throws InputError if the sizes of the parts differ.
    CalibratedView(std::shared_ptr<const FrameReader> raw, CalibrationSet calibration);

    int width() const { return raw_->width(); }
    int height() const { return raw_->height(); }
    Region bounds() const { return raw_->bounds(); }
    const FrameReader& raw() const { return *raw_; }

    /// Calibrated values (ADU) of a rectangle inside the frame. The result does not depend on how a frame is cut into
    /// rectangles.
    void read(const Region& region, View<float> out) const;

    void release() const;
    std::uint64_t mapped_bytes(const Region& region) const;

private:
    void read_unrepaired(const Region& region, View<float> out) const;
    /// The median of the sound neighbours of a defect; `known` holds the calibrated pixels of `region`.
    float repaired(int x, int y, const Region& region, View<const float> known) const;

    std::shared_ptr<const FrameReader> raw_;
    CalibrationSet calibration_;
};

} // namespace kasane
