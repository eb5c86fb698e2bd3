#include <kasane/project/master_light.hpp>

#include <kasane/base/hash.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

void describe_master_light(const MasterLight& master, const std::vector<StackFrame>& frames, StackReport& report) {
    double factor = 0, weights = 0;
    for (std::size_t i = 0; i < frames.size(); ++i) {
        const double sigma = frames[i].level.scale * frames[i].noise, w2 = std::pow(master.weights[i] * sigma, 2);
        factor += w2 * resampling_noise_factor(frames[i].to_frame, master.pixels.width(), master.pixels.height());
        weights += w2;
    }
    constexpr int kLag = 3; // pixels: there the correlation that the kernel leaves has all but gone
    report.noise = background_noise(master.pixels.plane(), kLag) / std::sqrt(factor / weights);
    const StarList stars = detect_stars(master.pixels.plane());
    report.fwhm = stars.fwhm;
    report.eccentricity = stars.eccentricity;
    const auto samples = static_cast<double>(std::max<std::uint64_t>(1, master.samples));
    report.rejected_low = static_cast<double>(master.rejected_low) / samples;
    report.rejected_high = static_cast<double>(master.rejected_high) / samples;
}

void write_master_light(const std::filesystem::path& output, const MasterLight& master,
                        const std::vector<const Exposure*>& exposures, const std::vector<FrameReport>& used,
                        const StackReport& report) {
    std::filesystem::create_directories((output / report.file).parent_path());
    const Exposure& e = *exposures.front();
    Header h;
    h.set("CREATOR", "Kasane " KASANE_VERSION, "program that made this file");
    h.set("IMAGETYP", "Master Light", "kind of exposure");
    h.set("ROWORDER", "TOP-DOWN", "the first row is the upper one");
    h.set("BUNIT", "ADU", "unit of the pixels");
    if (!report.target.empty()) h.set("OBJECT", report.target, "target");
    if (!report.filter.empty()) h.set("FILTER", report.filter, "filter");
    if (!e.start.empty()) h.set("DATE-OBS", e.start, "start of the first frame used, UTC");
    h.set("EXPTIME", report.seconds_total, "[s] of all frames used together");
    h.set("EFFEXP", report.seconds_effective, "[s] effective exposure: seconds times worth");
    h.set("NCOMBINE", static_cast<long long>(report.used), "frames combined");
    h.set("NDROPPED", static_cast<long long>(report.dropped), "frames left out");
    if (!e.camera.empty()) h.set("INSTRUME", e.camera, "camera");
    if (e.gain) h.set("GAIN", *e.gain, "gain setting of the camera");
    if (e.offset) h.set("OFFSET", *e.offset, "offset setting of the camera");
    if (const auto t = e.sensor_temperature()) h.set("CCD-TEMP", *t, "[degC] sensor, first frame used");
    if (!e.telescope.empty()) h.set("TELESCOP", e.telescope, "telescope");
    if (e.focal_length_mm) h.set("FOCALLEN", *e.focal_length_mm, "[mm] focal length");
    if (e.pixel_um) h.set("XPIXSZ", *e.pixel_um, "[um] pixel size in x");
    h.set("NOISE", report.noise, "[ADU] background, as without resampling");
    h.set("FWHM", report.fwhm, "[px] of the stars");
    h.set("REJLOW", report.rejected_low, "share of samples rejected below");
    h.set("REJHIGH", report.rejected_high, "share of samples rejected above");
    h.set("REFERENC", report.reference, "frame that gives the grid");
    h.set("REFPRINT", report.reference_fingerprint, "its fingerprint");
    std::string inputs;
    for (const Exposure* one : exposures)
        inputs += one->fingerprint;
    h.set("INPUTS", digest(inputs), "digest of the frames combined");
    h.add_history("Calibrated, defects repaired, Lanczos-3 with ringing clamped, additive and multiplicative");
    h.add_history("levels, iterative rejection beyond 3 sigma, inverse-variance weighted mean.");
    for (const FrameReport& f : used)
        h.add_history(fmt::format("from {} weight {:.5f} scale {:.5f}", f.path, f.weight, f.scale));
    Header c;
    c.set("BUNIT", "relative", "share of the whole weight that each pixel received");
    write_fits(output / report.file, {{master.pixels.plane(), h}, {master.coverage.plane(), c, "COVERAGE"}});
    write_png(output / report.preview, render(master.pixels.plane(), choose_stretch(master.pixels.plane())));
}

} // namespace kasane
