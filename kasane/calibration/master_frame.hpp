// What calibration masters do to a whole frame, made once for all exposures that they calibrate.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/calibration/calibrated_view.hpp>

#include <cstdint>
#include <memory>

namespace kasane {

/// Eight bytes a sample with a dark and a flat, four with one of them. Thread-safe.
class MasterFrame {
public:
    /// Of the masters of `calibration`, for exposures of the shape of `raw`. Throws InputError where a master cannot be
    /// read, std::bad_alloc.
    MasterFrame(const CalibrationSet& calibration, const FrameReader& raw, const Workers* workers = nullptr);
    ~MasterFrame();
    MasterFrame(const MasterFrame&) = delete;
    MasterFrame& operator=(const MasterFrame&) = delete;

    /// Memory that one would take.
    static std::uint64_t bytes(const CalibrationSet& calibration, const FrameReader& raw);
    /// Whether two calibrations do the same to two exposures of one shape.
    static bool serves_alike(const CalibrationSet& one, const FrameReader& raw, const CalibrationSet& other,
                             const FrameReader& other_raw);
    /// Whether it does what the masters of `calibration` do to such an exposure.
    bool made_by(const CalibrationSet& calibration, const FrameReader& raw) const;
    /// As MasterWindow::apply: the same values to the last bit.
    bool apply(const Region& region, int plane, View<float> values) const;

private:
    struct Made;
    std::unique_ptr<Made> made_;
};

} // namespace kasane
