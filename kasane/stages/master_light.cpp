#include <kasane/stages/master_light.hpp>

#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/integration/rejection_picture.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>
#include <kasane/stars/detection.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <utility>

namespace kasane {

namespace {

/// Factors that make the average star white, from stars that are measured well in all three planes.
std::vector<double> white_of_stars(const MasterLight& master, const StarList& green) {
    std::array<std::vector<Star>, 3> stars;
    for (std::size_t c = 0; c < 3; ++c) {
        const View<const float> plane = master.pixels.plane(static_cast<int>(c));
        stars[c] = green.stars;
        measure_fluxes(plane, measure_background(plane), green.fwhm, {}, stars[c]);
    }
    std::vector<double> scales;
    constexpr double kLeastSnr = 20;
    constexpr std::size_t kLeastStars = 5;
    for (const std::size_t c : {std::size_t{0}, std::size_t{1}, std::size_t{2}}) {
        std::vector<float> ratios;
        for (std::size_t i = 0; i < green.stars.size(); ++i) {
            const Star &g = stars[1][i], &other = stars[c][i];
            if (g.flux > kLeastSnr * g.flux_sigma && other.flux > kLeastSnr * other.flux_sigma)
                ratios.push_back(static_cast<float>(g.flux / other.flux));
        }
        if (ratios.size() < kLeastStars) return {};
        scales.push_back(median_in_place(ratios));
    }
    return scales;
}

} // namespace

namespace {

/// The distinct values of a word of all exposures, in their order.
std::string all_of(const std::vector<const Exposure*>& exposures, std::string Exposure::*word) {
    std::vector<std::string> out;
    for (const Exposure* e : exposures)
        if (!(e->*word).empty() && std::find(out.begin(), out.end(), e->*word) == out.end()) out.push_back(e->*word);
    return fmt::format("{}", fmt::join(out, " + "));
}

} // namespace

void describe_canvas(const Canvas& c, Header& h) {
    if (c.framing != Framing::reference || !c.on_the_grid()) {
        h.set("CNVORGX", c.origin.x, "[px] of the reference that the first pixel shows");
        h.set("CNVORGY", c.origin.y, "[px] the same, down");
    }
    if (c.turn != 0) h.set("CNVTURN", c.turn, "[deg] counter-clockwise, against the reference");
    if (c.mirror) h.set("CNVMIRR", 1LL, "left and right have changed places");
    if (c.scale != 1) h.set("SCALED", c.scale, "NOT THE REFERENCE'S PIXELS: as many along one");
}

double take_usual_coverage(MasterLight& master) {
    double factor = 1;
    for (std::size_t p = 0; p < master.noise.size(); ++p) {
        const View<const float> coverage = master.coverage.plane(static_cast<int>(p));
        std::vector<float> some;
        constexpr int kSide = 7; // of squares: drops leave single pixels more or less
        for (int y = 0; y < coverage.height; y += kSide)
            for (int x = 0; x < coverage.width; x += kSide) {
                double sum = 0;
                int count = 0;
                for (int j = y; j < std::min(y + kSide, coverage.height); ++j)
                    for (int i = x; i < std::min(x + kSide, coverage.width); ++i)
                        if (const float c = coverage(i, j); c > 0) sum += static_cast<double>(c), ++count;
                if (count > 0) some.push_back(static_cast<float>(sum / count));
            }
        if (some.empty()) continue;
        constexpr double kUsual = 0.3; // of the places: below are frames' edges, above is where panels overlap
        const auto at = some.begin() + static_cast<std::ptrdiff_t>(kUsual * static_cast<double>(some.size()));
        std::nth_element(some.begin(), at, some.end());
        const double more = 1 / std::sqrt(static_cast<double>(*at));
        master.noise[p] *= more;
        if (!master.pixel_noise.empty()) master.pixel_noise[p] *= more;
        master.expected_noise[p] *= more;
        if (static_cast<int>(p) == main_plane(static_cast<int>(master.noise.size()))) factor = more;
    }
    return factor;
}

void describe_noise(const MasterLight& master, StackReport& report) {
    const int planes = master.pixels.planes(), main = main_plane(planes);
    report.noise = master.noise[static_cast<std::size_t>(main)];
    if (!master.pixel_noise.empty()) report.pixel_noise = master.pixel_noise[static_cast<std::size_t>(main)];
    report.expected_noise = master.expected_noise[static_cast<std::size_t>(main)];
    if (planes == 3) report.colour_noise = master.noise;
    const auto samples = static_cast<double>(std::max<std::uint64_t>(1, master.samples));
    report.rejected_low = static_cast<double>(master.rejected_low) / samples;
    report.rejected_high = static_cast<double>(master.rejected_high) / samples;
    report.passed_over = static_cast<double>(master.passed_over) / samples;
}

LightPictures describe_stars(const MasterLight& master, StackReport& report, const Workers& workers) {
    const int planes = master.pixels.planes(), main = main_plane(planes);
    StarList stars;
    LightPictures pictures;
    workers.for_each(3, [&](std::size_t k) {
        if (k == 0)
            stars = detect_stars(master.pixels.plane(main));
        else if (k == 1 && planes != 3) // else by what its stars make white
            pictures.preview = render_planes(master.pixels, choose_stretches(master.pixels, {}));
        else if (k == 2)
            pictures.rejected = draw_rejected(master.rejected);
    });
    report.fwhm = stars.fwhm;
    report.eccentricity = stars.eccentricity;
    if (planes == 3) report.channel_scales = white_of_stars(master, stars);
    return pictures;
}

void write_master_light(const std::filesystem::path& output, const MasterLight& master,
                        const std::vector<const Exposure*>& exposures, const StackReport& report,
                        const std::optional<WorldCoordinates>& world, const Canvas& canvas, double finer,
                        LightPictures pictures, const Workers& workers) {
    std::filesystem::create_directories((output / report.file).parent_path());
    const Exposure& e = *exposures.front();
    Header h;
    h.set("CREATOR", kCreator, "program that made this file");
    h.set("IMAGETYP", "Master Light", "kind of exposure");
    h.set("ROWORDER", "TOP-DOWN", "the first row is the upper one");
    h.set("BUNIT", "ADU", "unit of the pixels");
    if (!report.target.empty()) h.set("OBJECT", report.target, "target");
    if (!report.filter.empty()) h.set("FILTER", report.filter, "filter");
    if (!e.start.empty()) h.set("DATE-OBS", e.start, "start of the first frame used, UTC");
    h.set("EXPTIME", report.seconds_total, "[s] of all frames used together");
    h.set("EFFEXP", report.seconds_effective, "[s] effective exposure: seconds times worth");
    h.set("NCOMBINE", static_cast<long long>(report.used), "frames combined");
    if (!report.panels.empty()) {
        const auto shown =
            std::count_if(report.panels.begin(), report.panels.end(), [](const PanelReport& p) { return p.used > 0; });
        h.set("PANELS", static_cast<long long>(shown), "fields that make this picture");
        h.set("PANELEXP", report.seconds_total / static_cast<double>(std::max<std::ptrdiff_t>(1, shown)),
              "[s] of a panel, mean");
    }
    h.set("NDROPPED", static_cast<long long>(report.dropped), "frames left out");
    const std::string cameras = all_of(exposures, &Exposure::camera);
    if (!cameras.empty()) h.set("INSTRUME", cameras, "camera");
    if (cameras == e.camera) { // settings of one camera
        if (e.gain) h.set("GAIN", *e.gain, "gain setting of the camera");
        if (e.offset) h.set("OFFSET", *e.offset, "offset setting of the camera");
        if (const auto t = e.sensor_temperature()) h.set("CCD-TEMP", *t, "[degC] sensor, first frame used");
    }
    const std::string telescopes = all_of(exposures, &Exposure::telescope);
    if (!telescopes.empty()) h.set("TELESCOP", telescopes, "telescope");
    if (e.focal_length_mm) h.set("FOCALLEN", *e.focal_length_mm, "[mm] focal length, first frame used");
    constexpr double kOfTheGrid = 0.01; // nearer than this the grid is the camera's own
    if (e.pixel_um)
        h.set("XPIXSZ", std::abs(finer - 1) < kOfTheGrid ? *e.pixel_um : *e.pixel_um * finer,
              "[um] pixel size in x, at that focal length");
    if (!report.colour_method.empty()) h.set("CFAMETH", report.colour_method, "how the mosaic became planes");
    for (std::size_t c = 0; c < report.channel_scales.size(); ++c)
        h.set(fmt::format("CHSCALE{}", c + 1), report.channel_scales[c], "makes the average star white; not applied");
    if (world) write_world(h, *world, master.pixels.width(), master.pixels.height());
    h.set("NOISE", report.noise, "[ADU] background, as without resampling, measured");
    if (report.area_noise > 1.001 * report.noise)
        h.set("NOISELRG", report.area_noise, "[ADU] of a pixel by large areas: colours are interpolated");
    h.set("NOISEEXP", report.expected_noise, "[ADU] the same as its frames let expect");
    if (report.pixel_noise > 0)
        h.set("NOISEPIX", report.pixel_noise,
              report.sampling.restored ? "[ADU] what pixels scatter by: restored"
                                       : "[ADU] what pixels scatter by: neighbours share drops");
    h.set("FWHM", report.fwhm, "[px] of the stars");
    if (report.zero_point != 0) h.set("MAGZERO", report.zero_point, "[mag] of a star of 1 ADU, by the frames' headers");
    if (report.lights_fwhm > 0) h.set("FWHMIN", report.lights_fwhm, "[px] the same in its frames, on this grid");
    for (std::size_t k = 0; report.lengths.size() > 1 && k < report.lengths.size() && k < 99; ++k) {
        const LengthReport& l = report.lengths[k];
        h.set(fmt::format("LENGTH{}", k + 1), l.seconds.empty() ? 0 : l.seconds.front(),
              fmt::format("[s] of {} frames; {:.3g} % of the pixels", l.lights, 100 * l.share));
    }
    h.set("BURNTPIX", static_cast<long long>(report.burnt.pixels), "pixels saturated in all lengths");
    h.set("REJLOW", report.rejected_low, "share of samples rejected below");
    h.set("REJHIGH", report.rejected_high, "share of samples rejected above");
    h.set("UNDERTRL", report.under_streaks, "share of samples left out under trails");
    h.set("REFERENC", report.reference, "frame that gives the grid");
    h.set("REFPRINT", report.reference_fingerprint, "its fingerprint");
    h.set("STACKID", report.identity, "what its name stands for");
    if (report.unread > 0) h.set("UNREAD", static_cast<long long>(report.unread), "lights that could not be read");
    describe_canvas(canvas, h);
    std::string inputs;
    for (const Exposure* one : exposures)
        inputs += one->fingerprint;
    h.set("INPUTS", digest(inputs), "digest of the frames combined");
    const std::vector<Provenance::Input> masters = report.made.inputs_of(Provenance::Input::Kind::master);
    for (std::size_t k = 0; k < masters.size() && k < 99; ++k)
        h.set(fmt::format("MASTER{}", k + 1), masters[k].name,
              "calibration master, " + masters[k].identity.substr(0, 16));
    for (const std::string& line : report.made.history())
        h.add_history(line);
    Header c;
    c.set("BUNIT", "relative", "share of the whole weight that each pixel received");
    const auto rejected = [](const Raster<std::uint16_t>& map, const char* name, const char* what) {
        FitsImage image;
        image.header.set("BUNIT", "relative", what);
        image.name = name;
        image.counts = map.plane();
        image.unit = 1 / static_cast<double>(RejectionMaps::kUnit);
        return image;
    };
    std::vector<FitsImage> images = {
        {master.pixels.plane(), h, {}, master.pixels.planes()},
        {master.coverage.plane(), c, "COVERAGE", master.coverage.planes()},
        rejected(master.rejected.low, "REJECTED_LOW", "share of each pixel's weight rejected below"),
        rejected(master.rejected.high, "REJECTED_HIGH", "the same above, trails included")};
    if (master.lengths.width() > 0) {
        FitsImage lengths;
        lengths.header.set("BUNIT", "count", "1: made by LENGTH1, ...; 100 more: saturated in it");
        lengths.name = "LENGTHS";
        lengths.counts = master.lengths.plane();
        images.push_back(std::move(lengths));
    }
    workers.for_each(3, [&](std::size_t k) {
        if (k == 0) write_fits(output / report.file, images);
        if (k == 1) {
            if (pictures.preview.empty())
                pictures.preview = render_planes(master.pixels, choose_stretches(master.pixels, report.channel_scales));
            write_png(output / report.preview, pictures.preview);
        }
        if (k == 2 && !report.rejection_picture.empty())
            write_png(output / report.rejection_picture, pictures.rejected);
    });
}

} // namespace kasane
