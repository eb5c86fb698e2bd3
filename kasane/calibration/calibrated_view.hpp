// A light as it should have been: any rectangle of a raw exposure, calibrated when it is asked for and never stored.
#pragma once

#include <kasane/calibration/cfa.hpp>
#include <kasane/calibration/defects.hpp>
#include <kasane/image/plane_source.hpp>
#include <kasane/io/reader.hpp>

#include <array>
#include <memory>
#include <vector>

namespace kasane {

/// What one exposure alone needs, found when it was measured. All may be empty.
struct OwnCorrections {
    DefectList defects;         ///< hot and cold pixels found in it, and charge spilled from saturated stars
    DefectList spilled;         ///< of them those to which charge spilled
    std::vector<float> rows;    ///< offsets of its rows, ADU before the flat; one a row or none
    std::vector<float> columns; ///< the same of its columns
    bool empty() const { return defects.empty() && rows.empty() && columns.empty(); }
};

class MasterFrame;

/// What calibrates a light. Any part may be missing.
struct CalibrationSet {
    std::shared_ptr<const FrameReader> dark;           ///< master dark or bias, ADU
    std::shared_ptr<const FrameReader> flat;           ///< master flat
    std::array<float, 3> flat_level = {1, 1, 1};       ///< what it is divided by first, by colour: 1 for Kasane's own
    std::shared_ptr<const DefectList> defects;         ///< of the sensor
    std::shared_ptr<const FrameReader> bias = nullptr; ///< only with a scaled dark: master bias, ADU
    float dark_scale = 1;                              ///< of what the dark holds above the bias
    std::shared_ptr<const FrameReader> second_dark = nullptr; ///< of another temperature, mixed with the first
    float second_share = 0;                                   ///< of the mixture, 0..1
    float offset_level = 0;                                   ///< without dark and bias: a constant, ADU
    CfaPattern cfa = {}; ///< defects are replaced by neighbours of their own colour
    std::shared_ptr<const OwnCorrections> own = nullptr;
    std::shared_ptr<const Mask> hidden = nullptr; ///< 1 where the frame shows no sky: there are no data
    /// What the masters do to a whole frame, made by them beforehand; null: made for each rectangle.
    std::shared_ptr<const MasterFrame> prepared = nullptr;
    float saturation = 0; ///< raw ADU from which on a pixel does not tell how much light it got; 0: not known
};

class MasterWindow;

/// (raw - dark) / (flat / flat_level), or with a scaled dark (raw - bias - scale (dark - bias)) / ...; defects, and
/// pixels to which raw or masters give no finite value, are replaced by the median of the sound pixels of their colour
/// around. Thread-safe.
class CalibratedView {
public:
    /// Throws InputError if the sizes or planes of the parts differ.
    CalibratedView(std::shared_ptr<const FrameReader> raw, CalibrationSet calibration);

    int width() const { return raw_->width(); }
    int height() const { return raw_->height(); }
    int planes() const { return raw_->planes(); }
    Region bounds() const { return raw_->bounds(); }
    const FrameReader& raw() const { return *raw_; }
    std::shared_ptr<const FrameReader> shared_raw() const { return raw_; }
    const CalibrationSet& calibration() const { return calibration_; }

    /// Calibrated values (ADU) of a rectangle inside the frame. NaN where neither the pixel nor its neighbours have
    /// data. The result does not depend on how a frame is cut into rectangles. `quality`, if given, tells which pixels
    /// of the rectangle were repaired, and which are saturated or got charge from such.
    void read(const Region& region, View<float> out, int plane = 0, QualityPlane* quality = nullptr,
              MasterWindow* masters = nullptr) const;

    /// The same without any replacement. `masters` keeps what they do around the place for the next read.
    void read_unrepaired(const Region& region, View<float> out, int plane = 0, MasterWindow* masters = nullptr) const;

    void release() const;
    std::uint64_t mapped_bytes(const Region& region) const;

private:
    using Places = std::vector<std::pair<int, int>>;
    /// Of the frame, by rows; a list that is null is not asked for.
    struct Found {
        Places *saturated = nullptr, *gaps = nullptr;
    };
    /// As read_unrepaired, a few rows after the other.
    void calibrate(const Region& region, View<float> out, int plane, MasterWindow* masters, const Found& found) const;
    /// Whether all of them are finite.
    bool calibrate_rows(const Region& region, View<float> out, int plane, MasterWindow* masters,
                        Places* saturated) const;
    bool is_defect(int x, int y) const;
    /// The median of the sound neighbours of a defect; `known` holds the calibrated pixels of `region`, NaN for all
    /// that are defects.
    float repaired(int x, int y, const Region& region, View<const float> known, int plane) const;

    std::shared_ptr<const FrameReader> raw_;
    CalibrationSet calibration_;
};

} // namespace kasane
