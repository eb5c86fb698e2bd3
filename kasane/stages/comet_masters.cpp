#include <kasane/stages/comet_masters.hpp>

#include <kasane/base/units.hpp>
#include <kasane/integration/comet_light.hpp>
#include <kasane/stages/master_light.hpp>
#include <kasane/stars/detection.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// A star of the stack.
struct Shining {
    Point at; ///< on the canvas
    double peak = 0, fwhm = 3;
};

/// Where the comet is, on the canvas.
Point on_canvas(const CometSolution& comet, const Canvas& canvas, double time) {
    const Point p = comet.path.at(time);
    Point out;
    canvas.to_reference().inverse().apply(p.x, p.y, out.x, out.y);
    return out;
}

/// Stars of the master light; of what it shows along the comet's way only those that stand still.
std::vector<Shining> shining(const Assembly& a, const MasterLight& master, const CometSolution& comet,
                             const Canvas& canvas) {
    DetectOptions o;
    o.most = 20000;
    const StarList list = detect_stars(master.pixels.plane(main_plane(master.pixels.planes())), o);
    const double fwhm = list.fwhm > 0 ? list.fwhm : 3;
    std::vector<Point> way;
    for (const Light* l : a.lights)
        if (const auto time = middle_of(*l->exposure)) way.push_back(on_canvas(comet, canvas, *time));
    std::vector<Point> fixed;
    const Affine to_canvas = canvas.to_reference().inverse();
    for (const Point& p : comet.stars) {
        Point q;
        to_canvas.apply(p.x, p.y, q.x, q.y);
        fixed.push_back(q);
    }
    const auto near = [](const std::vector<Point>& points, Point p, double reach) {
        return std::any_of(points.begin(), points.end(),
                           [&](const Point& q) { return std::hypot(q.x - p.x, q.y - p.y) < reach; });
    };
    std::vector<Shining> out;
    for (const Star& s : list.stars) {
        const Point at{s.x, s.y};
        constexpr double kOwn = 4, kSame = 2; // widths of stars; pixels
        if (near(way, at, kOwn * fwhm) && !near(fixed, at, kSame)) continue;
        out.push_back({at, std::max(s.peak, s.flux / (1.1 * fwhm * fwhm)), fwhm});
    }
    return out;
}

/// Out to where a star of a peak falls below a fifth of the noise, by a Moffat profile of exponent 2.5 (the wings of
/// real stars); pixels.
double covered_radius(double peak, double noise, double fwhm) {
    constexpr double kShare = 0.2, kBeta = 2.5, kMost = 14; // FWHM
    const double core = 0.5 * fwhm / std::sqrt(std::exp2(1 / kBeta) - 1);
    const double ratio = std::max(1.0, peak / (kShare * std::max(1e-9, noise)));
    return std::min(kMost * fwhm, core * std::sqrt(std::pow(ratio, 1 / kBeta) - 1) + 1);
}

/// What follows the comet: the frames of an assembly whose time is known.
struct Following {
    std::vector<std::size_t> which; ///< of the assembly
    std::vector<Point> moved;       ///< of the comet, against where it is at the epoch
    std::vector<StackFrame> frames; ///< along its path, without the stars
};

Following along_the_path(const Assembly& a, const std::vector<Shining>& stars, const CometSolution& comet,
                         const Canvas& canvas, Point home) {
    Following out;
    for (std::size_t k = 0; k < a.frames.size(); ++k) {
        const auto time = middle_of(*a.lights[k]->exposure);
        if (!time) continue;
        StackFrame f = a.frames[k];
        const auto main = static_cast<std::size_t>(a.lights[k]->main_plane());
        const StackPlane& own = f.planes[main];
        const double noise = own.level.scale.value * own.noise;
        for (const Shining& star : stars) {
            const Point at = own.to_frame.map(star.at);
            const double fwhm = own.fwhm > 0 ? own.fwhm : 3;
            f.covered.push_back({at.x, at.y, covered_radius(star.peak, noise, fwhm)});
        }
        const Point here = on_canvas(comet, canvas, *time), by{here.x - home.x, here.y - home.y};
        const Affine to_stars{1, 0, by.x, 0, 1, by.y};
        for (StackPlane& p : f.planes) {
            p.to_frame = p.to_frame.after(to_stars);
            p.level = p.level.onto(canvas, to_stars);
        }
        out.which.push_back(k);
        out.moved.push_back(by);
        out.frames.push_back(std::move(f));
    }
    return out;
}

/// What lies above the level.
std::shared_ptr<const Image> above(const Image& master, const std::vector<double>& levels) {
    auto out = std::make_shared<Image>(master);
    for (int p = 0; p < out->planes(); ++p)
        for (int y = 0; y < out->height(); ++y)
            for (int x = 0; x < out->width(); ++x)
                (*out)(x, y, p) -= static_cast<float>(levels[static_cast<std::size_t>(p)]);
    return out;
}

} // namespace

CometMasters integrate_comet(const Assembly& a, const MasterLight& among_stars, const CometSolution& comet,
                             const Canvas& canvas, const Context& context, const IntegrateOptions& options) {
    CometMasters out;
    const Point home = on_canvas(comet, canvas, comet.epoch);
    const std::vector<Shining> stars = shining(a, among_stars, comet, canvas);
    Following following = along_the_path(a, stars, comet, canvas, home);
    std::vector<StackFrame> still = a.frames;
    const auto failed = [&](const MasterLight& master) {
        out.failure = master.failure;
        if (out.failure) out.failure->frame = following.which[out.failure->frame];
        return out.failure.has_value();
    };
    const bool sum = options.combination == Combination::sum; // what is taken out of frames is of one of them
    IntegrateOptions last = options;
    if (sum) last.combination = Combination::mean;
    IntegrateOptions on_path = last;
    on_path.real_share = 0; // two frames without a star are better than all with it
    IntegrateOptions plain = on_path;
    plain.rejection = NoRejection{};
    plain.combination = Combination::mean;
    MasterLight first = integrate(following.frames, canvas, a.backgrounds, context, plain);
    if (failed(first)) return out;
    const auto main = static_cast<std::size_t>(a.lights.front()->main_plane());
    std::vector<Disc> discs;
    for (const Shining& star : stars)
        discs.push_back({star.at.x, star.at.y, covered_radius(star.peak, first.noise[main], star.fwhm)});
    std::vector<double> weights;
    for (const std::size_t k : following.which)
        weights.push_back(among_stars.weights[main][k]);
    const Image sky =
        without_moving({among_stars.pixels, first.pixels, following.moved, weights, discs, first.noise, home});
    first = {};
    const std::shared_ptr<const Image> shown = above(sky, a.backgrounds);
    for (std::size_t k = 0; k < following.frames.size(); ++k)
        following.frames[k].moving = MovingLight{shown, {-following.moved[k].x, -following.moved[k].y}};
    out.comet = integrate(following.frames, canvas, a.backgrounds, context, on_path);
    if (failed(out.comet)) return out;
    const auto light = std::make_shared<const Image>(light_of_comet(out.comet.pixels, out.comet.noise, home));
    for (std::size_t k = 0; k < following.which.size(); ++k)
        still[following.which[k]].moving = MovingLight{light, following.moved[k]};
    out.stars = integrate(still, canvas, a.backgrounds, context, last);
    if ((out.failure = out.stars.failure)) return out;
    out.light = *light;
    if (sum) {
        for (Image* image : {&out.comet.pixels, &out.stars.pixels, &out.light})
            for (float& v : image->pixels())
                v *= static_cast<float>(a.frames.size());
        for (MasterLight* master : {&out.comet, &out.stars})
            master->made.step("combine").text += "; times the number of lights";
    }
    return out;
}

void write_comet_masters(const std::filesystem::path& output, const CometSolution& comet, const CometMasters& masters,
                         const MasterLight& stars, const std::vector<const Exposure*>& exposures, StackReport& report,
                         const CometFiles& files) {
    CometReport& c = report.comet;
    c.file = files.name + "-comet.fits", c.preview = files.name + "-comet.png";
    c.both_file = files.name + "-both.fits", c.both_preview = files.name + "-both.png";
    c.text = comet.text;
    c.rms = comet.rms, c.smear = comet.smear;
    const Point rate = comet.path.rate(comet.epoch);
    c.rate = 3600 * std::hypot(rate.x, rate.y);
    c.angle = degrees(std::atan2(-rate.y, rate.x));
    for (const Exposure* e : exposures)
        if (const auto place = comet.places.find(e->path); place != comet.places.end())
            c.places.push_back(place->second);
    const auto write = [&](const MasterLight& master, const std::string& file, const std::string& preview,
                           const std::string& what) {
        StackReport own = report;
        own.file = file, own.preview = preview;
        own.rejection_picture.clear();
        describe_noise(master, own);
        LightPictures pictures = describe_stars(master, own, files.workers);
        own.made.step("register").text += "; " + what;
        write_master_light(output, master, exposures, own, files.world, files.canvas, files.finer, std::move(pictures),
                           files.workers);
        return own.noise;
    };
    c.noise = write(masters.comet, c.file, c.preview, "THE COMET stands still: " + c.text);
    MasterLight both = stars;
    for (int p = 0; p < both.pixels.planes(); ++p)
        for (int y = 0; y < both.pixels.height(); ++y)
            for (int x = 0; x < both.pixels.width(); ++x)
                both.pixels(x, y, p) += masters.light(x, y, p); // NaN stays
    write(both, c.both_file, c.both_preview, "THE COMET of one master light among the stars of another");
}

} // namespace kasane
