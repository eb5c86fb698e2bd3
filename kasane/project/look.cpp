#include <kasane/project/look.hpp>

#include <kasane/base/error.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/open_project.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr int kViewWidth = 640, kViewHeight = 420, kGap = 4; // pixels of the picture

/// The level without light of a frame: what must be taken off before both can be shown with the same limits.
float offset_of(const Session& s, const LightPlan& plan) {
    for (const auto& m : {plan.dark, plan.bias})
        if (m && s.masters[*m]) return static_cast<float>(s.masters[*m]->report.level);
    return static_cast<float>(plan.offset_level.value_or(0));
}

/// The window in which a plane of two views differs most, beyond what it differs by everywhere. Holds a few of their
/// rows at a time.
Region where_they_differ(const FrameView& a, const FrameView& b, int plane, int width, int height) {
    constexpr int kCell = 32;
    const int nx = std::max(1, a.width() / kCell), ny = std::max(1, a.height() / kCell);
    Image score(nx, ny);
    std::vector<float> all, d;
    for (int j = 0; j < ny; ++j) {
        const Region rows{0, j * kCell, a.width(), std::min(kCell, a.height() - j * kCell)};
        const Image of_a = read_planes(a, rows), of_b = read_planes(b, rows);
        for (int i = 0; i < nx; ++i) {
            d.clear();
            for (int y = 0; y < rows.height; ++y)
                for (int x = i * kCell; x < std::min(a.width(), (i + 1) * kCell); ++x)
                    if (const float v = of_a(x, y, plane) - of_b(x, y, plane); std::isfinite(v)) d.push_back(v);
            const float middle = d.empty() ? 0 : median_in_place(d);
            float sum = 0;
            for (const float v : d)
                sum += std::abs(v - middle);
            score(i, j) = d.empty() ? 0 : sum / static_cast<float>(d.size());
            all.push_back(score(i, j));
        }
    }
    const float most = 4 * quantile_in_place(all, 0.95); // one blazing pixel must not decide
    width = std::min(width, a.width());
    height = std::min(height, a.height());
    Region best{0, 0, width, height};
    double highest = -1;
    for (int y = 0; y + height <= a.height(); y += kCell / 2)
        for (int x = 0; x + width <= a.width(); x += kCell / 2) {
            double sum = 0;
            for (int j = y / kCell; j < std::min(ny, (y + height) / kCell); ++j)
                for (int i = x / kCell; i < std::min(nx, (x + width) / kCell); ++i)
                    sum += std::min(score(i, j), most);
            if (sum > highest) {
                highest = sum;
                best.x = x;
                best.y = y;
            }
        }
    return best;
}

void paste(const Raster<std::uint8_t>& from, Raster<std::uint8_t>& to, const Region& at) {
    const int left = at.x + std::max(0, (at.width - from.width()) / 2),
              top = at.y + std::max(0, (at.height - from.height()) / 2);
    for (int p = 0; p < to.planes(); ++p)
        for (int y = 0; y < std::min(from.height(), at.height); ++y)
            for (int x = 0; x < std::min(from.width(), at.width); ++x)
                to(left + x, top + y, p) = from(x, y, std::min(p, from.planes() - 1));
}

/// Averaged down by a whole factor until it fits.
Raster<std::uint8_t> fitted(const Image& v, const std::vector<Stretch>& stretches) {
    const int factor =
        std::max({1, (v.width() + kViewWidth - 1) / kViewWidth, (v.height() + kViewHeight - 1) / kViewHeight});
    return render_planes(v, stretches, (std::max(v.width(), v.height()) + factor - 1) / factor);
}

} // namespace

std::optional<fs::path> project_of(const fs::path& file, const fs::path& folder) {
    std::error_code failed;
    const auto is_project = [&](const fs::path& p) {
        return fs::exists(p / "kasane.toml", failed) || fs::exists(p / ".kasane", failed);
    };
    const fs::path full = fs::weakly_canonical(file, failed), given = fs::weakly_canonical(folder, failed);
    const std::string below = given.string() + "/";
    if (full.string().starts_with(below) && is_project(given)) return given;
    for (fs::path p = full.parent_path(); p.has_relative_path(); p = p.parent_path())
        if (is_project(p)) return p;
    return std::nullopt;
}

std::optional<CalibrationLook> look_at_calibration(const RunOptions& options, const fs::path& file,
                                                   const Context& context, Raster<std::uint8_t>& picture) {
    OpenProject project(options, context, {.verdicts = false});
    Session& session = project.session;

    std::error_code failed;
    const fs::path wanted = fs::weakly_canonical(file, failed);
    std::optional<StackPlan> alone; // the stack of this light, with this light alone
    for (const StackPlan& stack : session.pairing.stacks)
        for (const LightPlan& l : stack.lights)
            if (fs::weakly_canonical(session.path_of(l.exposure), failed) == wanted) {
                alone = stack;
                alone->lights = {l};
            }
    if (!alone) return std::nullopt;
    session.pairing.stacks = {*alone};
    make_masters(session);

    const LightPlan& plan = session.pairing.stacks.front().lights.front();
    const Exposure& e = session.exposures[plan.exposure];
    Calibrations calibrations(session);
    const auto name = [&](const std::optional<std::size_t>& m) {
        return m && session.masters[*m] ? session.pairing.masters[*m].name : "";
    };
    CalibrationLook look;
    look.file = e.path;
    look.exposure = e;
    look.project = fs::proximate(options.folder, failed).string();
    look.dark = name(plan.dark);
    look.bias = name(plan.bias);
    look.flat = name(plan.flat);
    look.dark_reason = plan.dark_reason;
    look.flat_reason = plan.flat_reason;
    look.dark_note = calibrations.dark_share(plan).reason;

    const std::vector<Measured> measured = measure_lights(session, calibrations, {&plan});
    const auto own = measured.front().measures ? std::shared_ptr<const OwnCorrections>(measured.front().measures,
                                                                                       &measured.front().measures->own)
                                               : nullptr;
    const auto after = calibrations.view(plan, own);
    CalibrationSet nothing;
    nothing.offset_level = offset_of(session, plan);
    nothing.cfa = after->source().calibration().cfa;
    const auto raw = std::make_shared<const CalibratedView>(after->source().shared_raw(), nothing);
    const FrameView before(raw, after->method());

    { // one image at a time: they are large
        Image whole(raw->width(), raw->height());
        raw->read(raw->bounds(), whole.plane());
        look.before = measure_illumination(whole.plane(), nothing.cfa);
        QualityPlane quality;
        for_each_band(raw->bounds(), [&](const Region& band) {
            after->source().read(band, whole.plane().crop(band), 0, &quality);
            quality.for_each(
                [&](int, int, quality::Bits bits) { look.defects_repaired += (bits & quality::kRepaired) != 0; });
        });
        look.after = measure_illumination(whole.plane(), nothing.cfa);
    }
    look.flat_fit = fit_flat(after->source());
    if (!look.flat_fit.doubt.empty())
        look.findings.push_back({Level::warning,
                                 "flat-does-not-fit",
                                 {look.file},
                                 fmt::format("the flat {} does not fit this light: {}", look.flat, look.flat_fit.doubt),
                                 "Pair it with the right flats in the recipe, or take flats again"});
    for (const Finding& f : project.report.findings)
        look.findings.push_back(f);

    const Region crop =
        where_they_differ(before, *after, main_plane(after->planes()), kViewWidth, kViewHeight / 2 + kViewHeight / 3);
    const int cell = after->cell();
    look.crop = {crop.x * cell, crop.y * cell, crop.width * cell, crop.height * cell};
    const auto [stretches, right] = [&] {
        const Image whole = read_planes(*after);
        const std::vector<Stretch> chosen = choose_stretches(whole);
        return std::pair(chosen, fitted(whole, chosen));
    }();
    const Raster<std::uint8_t> left = fitted(read_planes(before), stretches);
    const int top = left.height(), bottom = crop.height;
    picture = Raster<std::uint8_t>(2 * kViewWidth + kGap, top + kGap + bottom, std::max(after->planes(), 1), 40);
    paste(left, picture, {0, 0, kViewWidth, top});
    paste(right, picture, {kViewWidth + kGap, 0, kViewWidth, top});
    paste(render_planes(read_planes(before, crop), stretches), picture, {0, top + kGap, kViewWidth, bottom});
    paste(render_planes(read_planes(*after, crop), stretches), picture,
          {kViewWidth + kGap, top + kGap, kViewWidth, bottom});
    return look;
}

} // namespace kasane
