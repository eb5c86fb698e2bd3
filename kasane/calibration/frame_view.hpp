// What measuring and integration read of an exposure: one plane, or red, green and blue, calibrated, and demosaiced
// where the sensor has a colour filter array, for any rectangle on demand.
//
// The room holds, beside this:
//   calibrated_view.hpp  any rectangle of a raw exposure, calibrated when asked for
//   master_window.hpp    what masters do to a rectangle, kept for the next frame; master_frame.hpp: to a whole frame
//   master_effect.hpp    what both rely on
//   cfa.hpp              colour filter arrays
//   cfa_phase.hpp        does the stated pattern agree with the pixels
//   demosaic.hpp         three colours a pixel from one; demosaic_kernel.hpp: its rows
//   master.hpp           building masters; photon transfer
//   dark_fit.hpp         how much of a dark a light holds
//   flat_fit.hpp         does a flat fit a light
//   fixed_stars.hpp      stars that stood still in a sky flat
//   defects.hpp          pixels that cannot be trusted
//   own_corrections.hpp  what one exposure alone needs
//   pile_up.hpp          where its pixels pile up
#pragma once

#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/calibration/demosaic.hpp>
#include <kasane/image/plane_source.hpp>

#include <array>
#include <memory>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

namespace kasane {

/// How the mosaic of a colour filter array becomes planes.
enum class ColourMethod {
    adaptive, ///< demosaiced along the direction of least change
    bilinear, ///< demosaiced by fixed weights
    binned,   ///< means over squares of 2 x 2 pixels (6 x 6 patterns: 3 x 3): half the size, no interpolation
    red,      ///< one colour of the binned planes alone
    green,
    blue,
    separate, ///< binned, and each colour is registered for itself
};

/// "adaptive", ...
std::string_view colour_method_name(ColourMethod method);
std::optional<ColourMethod> colour_method_named(std::string_view name);

/// The planes of one calibrated exposure. Its grid is the sensor's, or that of the squares where they are binned.
class FrameView final : public PlaneSource {
public:
    /// An exposure without a colour filter array: as many planes as the file.
    FrameView(std::shared_ptr<const CalibratedView> source); // NOLINT: a calibrated frame is a view of itself
    /// The calibration knows the pattern; without one the method does not matter.
    FrameView(std::shared_ptr<const CalibratedView> source, ColourMethod method);

    int planes() const override { return planes_; }
    int width() const override { return width_; }
    int height() const override { return height_; }
    const std::filesystem::path& path() const override { return source_->raw().path(); }
    const CalibratedView& source() const { return *source_; }
    ColourMethod method() const { return method_; }
    /// Demosaiced, so that neighbours share noise.
    bool interpolated() const { return mosaic_ && cell_ == 1; }
    /// 0 red, 1 green, 2 blue: what a plane shows of a mosaic; of others the plane's own number.
    int colour(int plane) const;
    /// Sensor pixels along the side of a pixel of this grid.
    int cell() const { return cell_; }
    std::array<double, 2> shift(int plane) const override;

    /// As PlaneSource says. A defect of a mosaic is told of the plane of its colour alone, a saturated sample of a
    /// demosaiced one of all planes, two pixels around (one where it is bilinear).
    void read(const Region& region, std::span<const View<float>> out,
              std::span<QualityPlane> quality = {}) const override;
    void read_parts(const Region& region, std::span<const Region> parts, std::span<const View<float>> out,
                    std::span<QualityPlane> quality, std::unique_ptr<ReadMemory>& memory) const override;
    const PlaneSource* sensor() const override { return sensor_.get(); }
    int plane_of(int x, int y) const override { return source_->calibration().cfa.colour(x, y); }
    /// Of demosaiced planes, from a simulation that is the same on every machine.
    std::vector<Image> white_noise(std::span<const double> noise) const override;
    void release() const override { source_->release(); }
    std::uint64_t mapped_bytes(const Region& region) const override;

private:
    Region sensor_region(const Region& region) const;
    void read_with(MasterWindow* masters, const Region& region, std::span<const View<float>> out,
                   std::span<QualityPlane> quality) const;
    void read_mosaic(MasterWindow* masters, const Region& region, View<float> out, QualityPlane* quality) const;
    void read_demosaiced(MasterWindow* masters, const Region& region, std::span<const View<float>> out,
                         std::span<QualityPlane> quality) const;
    void read_binned(MasterWindow* masters, const Region& region, std::span<const View<float>> out,
                     std::span<QualityPlane> quality) const;

    std::shared_ptr<const CalibratedView> source_;
    ColourMethod method_ = ColourMethod::adaptive;
    bool mosaic_ = false;
    int planes_ = 1, cell_ = 1, width_ = 0, height_ = 0;
    std::shared_ptr<const FrameView> sensor_; ///< the mosaic itself, where it is interpolated
};

/// The same view of an exposure, calibrated otherwise.
std::shared_ptr<const FrameView> calibrated_by(const FrameView& view, CalibrationSet calibration);
/// The same without any calibration.
std::shared_ptr<const FrameView> as_it_came(const FrameView& view);
/// The same view of other raw pixels, of the same size.
std::shared_ptr<const FrameView> with_raw(const FrameView& view, std::shared_ptr<const FrameReader> raw);

} // namespace kasane
