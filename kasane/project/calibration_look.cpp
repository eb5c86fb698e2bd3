#include <kasane/project/calibration_look.hpp>

#include <kasane/base/error.hpp>
#include <kasane/calibration/own_corrections.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/project/scan.hpp>
#include <kasane/project/session.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr int kViewWidth = 640, kViewHeight = 420, kGap = 4; // pixels of the picture

Image planes_of(const FrameView& view) {
    Image out(view.width(), view.height(), view.planes());
    std::vector<View<float>> planes;
    for (int p = 0; p < view.planes(); ++p)
        planes.push_back(out.plane(p));
    view.read(view.bounds(), planes);
    view.release();
    return out;
}

/// The level without light of a frame: what must be taken off before both can be shown with the same limits.
float offset_of(const Session& s, const LightPlan& plan) {
    for (const auto& m : {plan.dark, plan.bias})
        if (m && s.masters[*m]) return static_cast<float>(s.masters[*m]->report.level);
    return static_cast<float>(plan.offset_level.value_or(0));
}

/// The window in which two images differ most, beyond what they differ by everywhere.
Region where_they_differ(const Image& a, const Image& b, int width, int height) {
    constexpr int kCell = 32;
    const int nx = std::max(1, a.width() / kCell), ny = std::max(1, a.height() / kCell);
    Image score(nx, ny);
    std::vector<float> all;
    for (int j = 0; j < ny; ++j)
        for (int i = 0; i < nx; ++i) {
            std::vector<float> d;
            for (int y = j * kCell; y < std::min(a.height(), (j + 1) * kCell); ++y)
                for (int x = i * kCell; x < std::min(a.width(), (i + 1) * kCell); ++x)
                    if (const float v = a(x, y) - b(x, y); std::isfinite(v)) d.push_back(v);
            const float middle = d.empty() ? 0 : median_in_place(d);
            float sum = 0;
            for (const float v : d)
                sum += std::abs(v - middle);
            score(i, j) = d.empty() ? 0 : sum / static_cast<float>(d.size());
            all.push_back(score(i, j));
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

Image cropped(const Image& v, const Region& r) {
    Image out(r.width, r.height, v.planes());
    for (int p = 0; p < v.planes(); ++p)
        for (int y = 0; y < r.height; ++y)
            std::copy_n(v.plane(p).row(r.y + y) + r.x, r.width, out.plane(p).row(y));
    return out;
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
    const Recipe recipe = recipe_of(options);
    const fs::path output = output_of(options, recipe);
    Ledger ledger(memory_folder(options));
    PixelCache cache(memory_folder(options) / "cache", recipe.cache_bytes);
    RunReport report;
    Scan scan = scan_folder({options.folder, output, recipe, &cache, true}, ledger, context);
    Session session{options, recipe, cache, output, context, ledger, std::move(scan.exposures), {}, {}, report};
    pair_session(session, scan);

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

    Image plain(raw->width(), raw->height()), clean(raw->width(), raw->height());
    std::vector<Doubtful> repaired;
    raw->read(raw->bounds(), plain.plane());
    after->source().read(raw->bounds(), clean.plane(), 0, &repaired);
    look.before = measure_illumination(plain.plane(), nothing.cfa);
    look.after = measure_illumination(clean.plane(), nothing.cfa);
    look.defects_repaired = static_cast<int>(repaired.size());
    look.flat_fit = fit_flat(after->source());
    if (!look.flat_fit.doubt.empty())
        look.findings.push_back({Level::warning,
                                 "flat-does-not-fit",
                                 {look.file},
                                 fmt::format("the flat {} does not fit this light: {}", look.flat, look.flat_fit.doubt),
                                 "Pair it with the right flats in the recipe, or take flats again"});
    for (const Finding& f : report.findings)
        look.findings.push_back(f);

    const Image left = planes_of(before), right = planes_of(*after);
    const int main = right.planes() == 3 ? 1 : 0;
    Image left_main(left.width(), left.height()), right_main(left.width(), left.height());
    std::copy_n(left.plane(main).data, left_main.pixels().size(), left_main.pixels().begin());
    std::copy_n(right.plane(main).data, right_main.pixels().size(), right_main.pixels().begin());
    const Region crop = where_they_differ(left_main, right_main, kViewWidth, kViewHeight / 2 + kViewHeight / 3);
    const int cell = after->cell();
    look.crop = {crop.x * cell, crop.y * cell, crop.width * cell, crop.height * cell};
    const std::vector<Stretch> stretches = choose_stretches(right);
    const Raster<std::uint8_t> whole = fitted(left, stretches);
    const int top = whole.height(), bottom = crop.height;
    picture = Raster<std::uint8_t>(2 * kViewWidth + kGap, top + kGap + bottom, std::max(right.planes(), 1), 40);
    paste(whole, picture, {0, 0, kViewWidth, top});
    paste(fitted(right, stretches), picture, {kViewWidth + kGap, 0, kViewWidth, top});
    const Image crop_left = cropped(left, crop), crop_right = cropped(right, crop);
    paste(render_planes(crop_left, stretches), picture, {0, top + kGap, kViewWidth, bottom});
    paste(render_planes(crop_right, stretches), picture, {kViewWidth + kGap, top + kGap, kViewWidth, bottom});
    return look;
}

} // namespace kasane
