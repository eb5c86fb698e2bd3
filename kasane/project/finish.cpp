#include <kasane/project/finish.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/finishing/gradient_picture.hpp>
#include <kasane/finishing/sharpen_picture.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/frames/panel_names.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/composite.hpp>
#include <kasane/io/colour_profile.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/tiff.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/project/finish_plan.hpp>
#include <kasane/project/onto_grid.hpp>
#include <kasane/stages/joint_stacks.hpp>
#include <kasane/stages/outside_image.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <functional>
#include <map>
#include <set>
#include <span>

namespace fs = std::filesystem;

namespace kasane {

namespace {

const std::set<std::string>& kept_cards() { // what is so of the canvas and of the instrument
    static const std::set<std::string> kept = {"IMAGETYP", "ROWORDER", "BUNIT",    "OBJECT",   "INSTRUME",
                                               "TELESCOP", "FOCALLEN", "REFERENC", "REFPRINT", "DATE-OBS"};
    return kept;
}

/// Its own extension; null where it has none.
std::unique_ptr<FrameReader> coverage_of(const fs::path& file) {
    try {
        return open_fits(file, "COVERAGE");
    } catch (const InputError&) {
        return nullptr;
    }
}

/// Of its filter, or a colour.
std::string plane_name(const MasterFile& s, int plane) {
    static const char* kColours[] = {"R", "G", "B"};
    return s.planes == 3 ? kColours[plane] : s.filter.empty() ? s.name : s.filter;
}

fs::path picture_of(const fs::path& folder, const FinishPlan& plan, const char* what, const std::string& plane) {
    return folder / fmt::format("{}-{}-{}.png", plan.name, what, squeezed(plane));
}

/// One plane in work.
struct Channel {
    FinishedPart told;
    Image pixels;
    StarList stars;
};

class Work {
public:
    Work(const FinishPlan& plan, const FinishOptions& o, const OntoGrid* grid, const fs::path& folder,
         const Context& context)
        : plan_(plan), o_(o), grid_(grid), folder_(folder), context_(context) {
        image_.name = plan.name;
        image_.linear = folder / (plan.name + ".fits");
        image_.shown = folder / (plan.name + ".tif");
        image_.preview = folder / (plan.name + ".png");
    }

    FinishedImage make() {
        std::vector<Channel> channels;
        for (const MasterFile* s : plan_.sources)
            for (Channel& c : take(*s))
                channels.push_back(std::move(c));
        if (plan_.luminance) luminance_ = std::move(take(*plan_.luminance).front());
        if (o_.sharpen > 0) sharpen_all(channels);
        Image out = plan_.palette.empty() ? std::move(channels.front().pixels) : in_colour(channels);
        if (plan_.palette.empty()) {
            image_.noise.fill(channels.front().told.noise);
            pedestal_ = channels.front().told.sky; // its own
        }
        for (Channel& c : channels)
            image_.parts.push_back(std::move(c.told));
        if (luminance_) image_.parts.push_back(std::move(luminance_->told));
        shape_ = o_.reshape;
        if (o_.covered > 0) {
            shape_.crop = largest_rectangle(covered_);
            if (shape_.crop.empty())
                throw DataError(fmt::format("nothing of it has {} of the full coverage", o_.covered),
                                image_.parts.front().file, {});
        }
        if (shape_.any()) {
            const int width = out.width(), height = out.height();
            out = reshaped(out, shape_);
            tell_shape(width, height);
            for (double& n : image_.noise)
                n /= shape_.bin;
        }
        image_.width = out.width(), image_.height = out.height(), image_.planes = out.planes();
        image_.curves =
            choose_tone(out, std::vector<double>(static_cast<std::size_t>(out.planes()), pedestal_),
                        std::vector<double>(image_.noise.begin(), image_.noise.begin() + out.planes()), o_.tone);
        write_linear(out);
        image_.beyond_white = apply_tone(out, image_.curves, o_.tone.linked, context_.workers);
        write_tiff(image_.shown, out, TiffSamples::whole_16,
                   {description(), colour_profile(out.planes(), ToneCurve::screen)});
        write_preview(out);
        return std::move(image_);
    }

private:
    Image planes_of(const MasterFile& s) {
        const auto view = view_of_image(s.file);
        Image all = read_planes(*view);
        view->release();
        if (o_.covered > 0) find_covered(s, {}, all);
        return all;
    }

    /// On the grid; `area` of a pixel of it, in pixels of the image.
    Image brought(const MasterFile& s, double& area) {
        Progress silent; // the steps of finishing are counted
        ImageOnGrid there =
            bring_onto(*grid_, s.file, {}, true, {context_.workers, context_.memory, silent, context_.scratch});
        if (!there.told.registered)
            throw DataError("cannot be brought onto the grid of " + grid_->file.filename().string() + ": " +
                                there.told.text,
                            s.file, {});
        area = there.on_grid.area;
        grid_text_.push_back(fmt::format(
            "{} onto the grid of {}: {} of {} stars, {:.2f} px, scale {:.4g}, turned by {:.2f} degrees{}",
            s.file.filename().string(), grid_->file.filename().string(), there.told.matched, there.told.stars,
            there.told.rms, there.told.scale, there.told.turn, there.told.mirrored ? ", mirrored" : ""));
        if (o_.covered > 0) find_covered(s, there.to_image, there.on_grid.pixels);
        return std::move(there.on_grid.pixels);
    }

    /// Leaves in `covered_` what has its share of the full coverage, and data in all planes.
    void find_covered(const MasterFile& s, const std::optional<Transform>& to_image, const Image& pixels) {
        if (covered_.empty()) covered_ = Mask(pixels.width(), pixels.height(), 1, 1);
        const std::unique_ptr<FrameReader> file = coverage_of(s.file);
        const Image coverage = file ? read_plane(*file, main_plane(file->planes())) : Image();
        float full = 1;
        if (file) {
            constexpr double kFull = 0.98; // of all pixels
            std::vector<float> sorted = sample_pixels(coverage.plane(), 1000000);
            full = quantile_in_place(sorted, kFull);
        }
        const float least = static_cast<float>(o_.covered) * full;
        Mask here(pixels.width(), pixels.height());
        context_.workers.for_each(static_cast<std::size_t>(pixels.height()), [&](std::size_t row) {
            const int y = static_cast<int>(row);
            for (int x = 0; x < pixels.width(); ++x) {
                bool there = true;
                for (int p = 0; p < pixels.planes(); ++p)
                    there = there && std::isfinite(pixels(x, y, p));
                if (there && file) {
                    const Point is{static_cast<double>(x), static_cast<double>(y)},
                        at = to_image ? to_image->map(is) : is;
                    const int u = static_cast<int>(std::lround(at.x)), v = static_cast<int>(std::lround(at.y));
                    there = coverage.bounds().contains({u, v, 1, 1}) && coverage(u, v) >= least;
                }
                here(x, y) = there;
            }
        });
        close_gaps(here);
        for (std::size_t i = 0; i < here.pixels().size(); ++i)
            if (!here.pixels()[i]) covered_.pixels()[i] = 0;
    }

    /// Its planes, gradients taken off.
    std::vector<Channel> take(const MasterFile& s) {
        double area = 1;
        Image all = grid_ ? brought(s, area) : planes_of(s);
        std::vector<Channel> out;
        for (int p = 0; p < s.planes; ++p) {
            Image one;
            if (s.planes == 1) {
                one = std::move(all);
            } else {
                one = Image(s.width, s.height);
                const View<const float> plane = all.plane(p);
                std::copy(plane.data, plane.data + one.pixels().size(), one.pixels().data());
            }
            out.push_back(take(s, p, std::move(one), area));
        }
        return out;
    }

    Channel take(const MasterFile& s, int plane, Image pixels, double area) {
        context_.workers.cancel().check();
        Channel c;
        c.told.name = plane_name(s, plane);
        c.told.file = s.file;
        c.pixels = std::move(pixels);
        c.stars = detect_stars(c.pixels.plane());
        if (sample_pixels(c.pixels.plane(), 1000000).empty())
            throw DataError("has no data that could be finished", s.file, {});
        c.told.noise = s.noise.empty() ? static_cast<double>(c.stars.noise)
                                       : s.noise[static_cast<std::size_t>(plane)] / std::sqrt(area);
        c.told.sky = static_cast<double>(c.stars.background.global_level);
        try {
            const Gradient g = fit_gradient(c.pixels.plane(), c.stars, o_.gradient, context_.workers);
            c.told.sky = g.sky;
            c.told.gradient = g.kind, c.told.size = g.size, c.told.left = g.left, c.told.expected = g.expected;
            c.told.share = g.share();
            if (o_.background) {
                c.told.picture = picture_of(folder_, plan_, "sky", c.told.name);
                write_png(c.told.picture, draw_gradient(c.pixels.plane(), g));
                take_off(g, o_.divide, c.pixels.plane(), context_.workers);
                c.told.taken_off = true;
                constexpr int kFew = 6; // of sixteen
                if (g.parts < kFew)
                    image_.doubts.push_back(fmt::format("{}: sky is seen in {} of 16 parts of the field alone; what "
                                                        "its gradient does elsewhere is guessed",
                                                        c.told.name, g.parts));
            }
        } catch (const DataError& e) {
            image_.doubts.push_back(fmt::format("{}: its gradient stays: {}", c.told.name, e.what_failed()));
        }
        context_.progress.advance(1);
        return c;
    }

    /// All of one picture to one width of their stars, so that no colour surrounds another.
    void sharpen_all(std::vector<Channel>& channels) {
        struct Known {
            Channel* channel;
            PlaneStars stars;
        };
        std::vector<Known> known;
        std::vector<float> widths;
        const auto look = [&](Channel& c) {
            try {
                known.push_back({&c, learn_stars(c.pixels.plane(), c.stars, c.told.sky, c.told.noise)});
                widths.push_back(static_cast<float>(known.back().stars.psf.fwhm));
            } catch (const DataError& e) {
                image_.doubts.push_back(fmt::format("{} is not sharpened: {}", c.told.name, e.what_failed()));
                context_.progress.advance(sharpening_tiles(c.pixels.width(), c.pixels.height()));
            }
        };
        for (Channel& c : channels)
            look(c);
        if (luminance_) look(*luminance_);
        if (known.empty()) return;
        const double usual = static_cast<double>(median_in_place(widths)),
                     target = std::max(kNarrowestStar, o_.sharpen * usual);
        for (Known& one : known) {
            constexpr double kWorth = 0.97;
            if (target < kWorth * one.stars.psf.fwhm) {
                sharpen_one(*one.channel, one.stars, target);
                continue;
            }
            image_.doubts.push_back(fmt::format(
                "{} is not sharpened: its stars of {:.2f} pixels {}", one.channel->told.name, one.stars.psf.fwhm,
                target > o_.sharpen * usual
                    ? fmt::format("would be narrower than {} pixels, which show no shape", kNarrowestStar)
                    : fmt::format("are as sharp already as the others will be, {:.2f}", target)));
            context_.progress.advance(sharpening_tiles(one.channel->pixels.width(), one.channel->pixels.height()));
        }
    }

    void sharpen_one(Channel& c, const PlaneStars& stars, double target) {
        FinishedPart& told = c.told;
        SharpeningPicture picture(c.pixels.plane(), c.stars, stars.flat_tops);
        SharpenCall call;
        call.target = target, call.sky = told.sky, call.noise = told.noise;
        call.advance = [&] { context_.progress.advance(1); };
        SharpenedPart s;
        s.how = sharpen(c.pixels.plane(), stars, call, context_.workers);
        s.stars = stars.psf.stars, s.degree = stars.psf.degree;
        const StarList after = detect_stars(c.pixels.plane());
        s.fwhm = after.fwhm;
        if (c.stars.noise > 0 && after.noise > 0)
            s.noise = static_cast<double>(after.noise) / static_cast<double>(c.stars.noise);
        told.noise *= s.noise;
        s.picture = picture_of(folder_, plan_, "sharp", told.name);
        write_png(s.picture, picture.draw(c.pixels.plane()));
        if (!s.how.settled)
            image_.doubts.push_back(
                fmt::format("{}: after {} steps of sharpening what is left still fell", told.name, s.how.iterations));
        told.sharpened = std::move(s);
        c.stars = after;
    }

    Image in_colour(std::vector<Channel>& channels) {
        std::vector<ColourChannel> in;
        for (const Channel& c : channels)
            in.push_back({c.told.name, c.pixels.plane(), c.told.sky, c.told.noise});
        Image out = mix(in, plan_.palette, image_.noise, context_.workers);
        for (std::size_t c = 0; c < 3; ++c)
            image_.palette +=
                fmt::format("{}{} {}", c ? ", " : "", kColourNames[c], channel_sum_text(plan_.palette.colours[c]));
        StarList stars = detect_stars(out.plane(1));
        if (o_.white) {
            const WhiteBalance white = white_balance(out, stars, *o_.white);
            image_.white = white.text, image_.factors = white.factors;
            if (!white.told) image_.doubts.push_back("white was " + white.text);
            multiply(out, white.factors, context_.workers);
            for (std::size_t c = 0; c < 3; ++c)
                image_.noise[c] *= white.factors[c];
        }
        // A picture in colour has one sky, that of its middle colour, so that nothing of its noise is below zero.
        pedestal_ = channels[channels.size() / 2].told.sky;
        for (Channel& c : channels)
            c.pixels = Image();
        if (plan_.luminance) brighten(out);
        for (int p = 0; p < 3; ++p)
            for (float& v : std::span(out.plane(p).data, static_cast<std::size_t>(out.bounds().area())))
                v += static_cast<float>(pedestal_);
        return out;
    }

    void brighten(Image& out) {
        const Image own = brightness(out, context_.workers);
        const double factor = flux_ratio(own.plane(), detect_stars(own.plane()), luminance_->pixels.plane());
        if (!(factor > 0)) {
            image_.doubts.push_back(
                "L gives no brightness: fewer than five stars are well measured in it and in the colours");
        } else {
            image_.luminance =
                put_luminance(out, {"L", luminance_->pixels.plane(), luminance_->told.sky, luminance_->told.noise},
                              factor, image_.noise, context_.workers);
            image_.luminance_name = luminance_->told.name;
        }
        luminance_->pixels = Image();
    }

    void tell_shape(int width, int height) {
        const Reshape& r = shape_;
        std::vector<std::string> words;
        if (!r.crop.empty())
            words.push_back(fmt::format(
                "cropped to {} x {} pixels at {}, {} of {} x {}{}", r.crop.width, r.crop.height, r.crop.x, r.crop.y,
                width, height, o_.covered > 0 ? fmt::format(", which have {} of the full coverage", o_.covered) : ""));
        if (r.turn) words.push_back(fmt::format("turned by {} degrees counter-clockwise", r.turn));
        if (r.mirror) words.push_back("mirrored");
        if (r.bin > 1) words.push_back(fmt::format("binned {} x {}", r.bin, r.bin));
        image_.shape = fmt::format("{}", fmt::join(words, ", "));
        former_ = to_former(r, width, height);
    }

    void write_linear(const Image& out) {
        const MasterFile& first = *plan_.sources.front();
        Header h;
        for (const Card& c : first.header.cards())
            if (kept_cards().count(c.key)) h.add(c);
        if (const auto world = world_of_image(grid_ ? grid_->file : first.file)) {
            std::vector<SkySample> samples;
            constexpr int kAcross = 12;
            for (int j = 0; j <= kAcross; ++j)
                for (int i = 0; i <= kAcross; ++i) {
                    const Point at{i * (out.width() - 1.0) / kAcross, j * (out.height() - 1.0) / kAcross};
                    Point there;
                    former_.apply(at.x, at.y, there.x, there.y);
                    samples.push_back({at, world->to_sky(there)});
                }
            if (const auto fitted = fit_world(samples, out.width(), out.height()))
                write_world(h, *fitted, out.width(), out.height());
        }
        if (grid_) h.set("REFERENC", grid_->file.filename().string(), "image that gives the grid");
        h.set("ROWORDER", "TOP-DOWN");
        double seconds = 0;
        std::vector<std::string> filters;
        std::set<fs::path> counted;
        for (const MasterFile* s : all_sources()) {
            if (!s->filter.empty()) filters.push_back(s->filter);
            if (counted.insert(s->file).second) seconds += s->header.number("EXPTIME").value_or(0);
        }
        if (!filters.empty()) h.set("FILTER", fmt::format("{}", fmt::join(filters, "+")), "finished");
        if (seconds > 0) h.set("EXPTIME", seconds, "[s] of all frames of all of them together");
        if (out.planes() == 1) {
            h.set("NOISE", image_.noise[0], "[ADU] background");
        } else {
            static const char* kKeys[] = {"NOISER", "NOISEG", "NOISEB"};
            for (std::size_t p = 0; p < 3; ++p)
                h.set(kKeys[p], image_.noise[p], "[ADU] background");
        }
        for (const std::string& line : account())
            h.add_history(line);
        write_fits(image_.linear, {{out.plane(), h, {}, out.planes()}});
    }

    std::vector<const MasterFile*> all_sources() const {
        std::vector<const MasterFile*> out = plan_.sources;
        if (plan_.luminance) out.push_back(plan_.luminance);
        return out;
    }

    /// What was done, in order.
    std::vector<std::string> account() const {
        std::vector<std::string> out;
        for (const std::string& line : grid_text_)
            out.push_back("register: " + line);
        for (const FinishedPart& p : image_.parts) {
            out.push_back(fmt::format("of {}: {}", p.name, p.file.filename().string()));
            if (p.taken_off)
                out.push_back(fmt::format("background of {}: {}, {:.4g} from end to end, {}; sky {:.6g}", p.name,
                                          p.gradient, p.size, o_.divide ? "divided" : "subtracted", p.sky));
        }
        for (const FinishedPart& p : image_.parts)
            if (p.sharpened) out.push_back(fmt::format("sharpen {}: {}", p.name, sharpening_text(*p.sharpened)));
        if (!image_.palette.empty()) out.push_back("combine: " + image_.palette);
        if (!image_.white.empty())
            out.push_back(fmt::format("white: {}, red {:.5g}, green {:.5g}, blue {:.5g}", image_.white,
                                      image_.factors[0], image_.factors[1], image_.factors[2]));
        if (image_.luminance)
            out.push_back(fmt::format("luminance: {} times {:.5g}, weight {:.4f}", image_.luminance_name,
                                      image_.luminance->factor, image_.luminance->weight));
        if (image_.planes == 3) out.push_back(fmt::format("sky: {:.6g} ADU in all colours", pedestal_));
        if (!image_.shape.empty()) out.push_back("geometry: " + image_.shape);
        return out;
    }

    std::string description() const {
        std::string out = plan_.sources.front()->target;
        for (const std::string& line : account())
            out += (out.empty() ? "" : "\n") + line;
        for (std::size_t p = 0; p < image_.curves.size(); ++p)
            out += fmt::format("\nstretch {}: black {:.6g}, white {:.6g}, strength {:.6g}{}", p, image_.curves[p].black,
                               image_.curves[p].white, image_.curves[p].strength,
                               image_.curves.size() == 3 && o_.tone.linked ? ", linked" : "");
        return out;
    }

    void write_preview(const Image& shown) {
        constexpr int kMost = 1600;
        const std::vector<Stretch> as_it_is(static_cast<std::size_t>(shown.planes()), Stretch{0, 1, 0});
        write_png(image_.preview, render_planes(shown, as_it_is, kMost));
    }

    const FinishPlan& plan_;
    const FinishOptions& o_;
    const OntoGrid* grid_; ///< null: images stay on their own
    const fs::path& folder_;
    const Context& context_;
    FinishedImage image_;
    std::optional<Channel> luminance_;
    double pedestal_ = 0;
    std::vector<std::string> grid_text_; ///< how images came onto the grid
    Mask covered_;                       ///< 0 where any image has too little
    Reshape shape_;
    Affine former_; ///< from pixels of the result to those of the master lights
};

/// Before any work.
void require_sense(const FinishOptions& o) {
    for (const std::string& wrong : {o.gradient.check(), o.reshape.check(), o.tone.check()})
        if (!wrong.empty()) throw UsageError(wrong, {}, "See [finish] in docs/recipe.md");
    if (o.sharpen != 0 && !(o.sharpen >= FinishOptions::kSharpest && o.sharpen <= FinishOptions::kLeastSharp))
        throw UsageError(fmt::format("stars can be sharpened to {} to {} of their width, not {}",
                                     FinishOptions::kSharpest, FinishOptions::kLeastSharp, o.sharpen),
                         {}, "See [finish] in docs/recipe.md");
}

void add_pictures(const FinishPlan& plan, const fs::path& folder, const char* kind, std::vector<fs::path>& out) {
    std::vector<const MasterFile*> all = plan.sources;
    if (plan.luminance) all.push_back(plan.luminance);
    for (const MasterFile* s : all)
        for (int p = 0; p < s->planes; ++p)
            out.push_back(picture_of(folder, plan, kind, plane_name(*s, p)));
}

std::vector<fs::path> results_of(const FinishPlan& plan, const FinishOptions& o, const fs::path& folder) {
    std::vector<fs::path> out;
    for (const char* ending : {".fits", ".tif", ".png"})
        out.push_back(folder / (plan.name + ending));
    if (o.background) add_pictures(plan, folder, "sky", out);
    if (o.sharpen > 0) add_pictures(plan, folder, "sharp", out);
    return out;
}

/// Pictures that an earlier call made of what this one did not do.
void remove_former_pictures(const FinishPlan& plan, const FinishOptions& o, const fs::path& folder,
                            const std::set<std::string>& names) {
    std::vector<fs::path> former;
    if (!o.background) add_pictures(plan, folder, "sky", former);
    if (!(o.sharpen > 0)) add_pictures(plan, folder, "sharp", former);
    std::error_code kept;
    for (const fs::path& file : former)
        if (!names.count(file.stem().string()) && is_own_work(file)) fs::remove(file, kept);
}

} // namespace

std::string sharpening_text(const SharpenedPart& s) {
    return fmt::format(
        "stars of {:.2f} pixels made {:.2f} wide ({:.2f} is measured), as {} of them show their shape{}, in "
        "{} steps; noise times {:.3f}{}",
        s.how.before, s.how.target, s.fwhm, s.stars,
        s.degree > 0 ? fmt::format(", which varies over the field (degree {})", s.degree) : "", s.how.iterations,
        s.noise, s.how.kept ? fmt::format("; {} with flat tops stay as they are", s.how.kept) : "");
}

bool FinishReport::clean() const {
    return !images.empty() && std::all_of(images.begin(), images.end(),
                                          [](const FinishedImage& i) { return i.failure.empty() && i.doubts.empty(); });
}

FinishReport finish_masters(const FinishCall& call, const Context& context) {
    const Stopwatch clock;
    FinishReport report;
    FinishOptions o;
    if (call.options)
        o = *call.options;
    else if (call.files.empty())
        o = recipe_of(call.project).finish;
    if (!o.onto.empty() && call.files.empty()) o.onto = call.project.folder / o.onto; // a recipe's; absolute ones stay
    require_sense(o);
    std::vector<MasterFile> sources;
    std::vector<fs::path> files = call.files;
    std::error_code failed;
    if (files.empty()) {
        RunMasters made = masters_of_last_run(call.project, "finished");
        files = std::move(made.files);
        report.folder = call.to.empty() ? made.output / "finished" : call.to;
    } else {
        report.folder = call.to.empty() ? fs::path("finished") : call.to;
    }
    for (std::size_t i = 0; i < files.size(); ++i) {
        for (std::size_t j = 0; j < i; ++j)
            if (fs::equivalent(files[i], files[j], failed))
                throw UsageError("is named twice", files[i], "Name it once");
        sources.push_back(master_of(files[i]));
        sources.back().filter = fold_filter(sources.back().filter);
    }
    std::optional<OntoGrid> grid;
    if (!o.onto.empty()) {
        grid = grid_of(o.onto, context);
        for (MasterFile& s : sources)
            s.width = grid->canvas.width, s.height = grid->canvas.height;
    }
    std::map<std::string, std::vector<const MasterFile*>> groups; // by target; files that are named belong together
    for (const MasterFile& s : sources)
        groups[call.files.empty() ? squeezed(s.target) : std::string()].push_back(&s);
    std::vector<FinishPlan> plans;
    for (const auto& [target, group] : groups)
        for (FinishPlan& p : plan_finish(group, o, !call.files.empty(), report.notes))
            plans.push_back(std::move(p));
    if (!o.palette.empty() && std::none_of(plans.begin(), plans.end(), [](const FinishPlan& p) {
            return !p.palette.empty() && p.sources.front()->planes == 1;
        }))
        report.notes.push_back("the palette is for master lights of single filters, of which there are none");
    std::set<std::string> names;
    std::int64_t parts = 0;
    std::uint64_t most = 0;
    for (const FinishPlan& p : plans) {
        if (!names.insert(p.name).second)
            throw UsageError(fmt::format("two images would be called {}", p.name), p.sources.front()->file,
                             "Finish them one after the other, each into a folder of its own (--to)");
        for (const fs::path& result : results_of(p, o, report.folder)) {
            std::vector<fs::path> inputs = files;
            if (grid) inputs.push_back(o.onto);
            for (const fs::path& input : inputs)
                if (fs::exists(result, failed) && fs::equivalent(result, input, failed))
                    throw UsageError("is an image of this call and would be written over", result,
                                     "Name another folder with --to");
            require_replaceable(result);
        }
        std::uint64_t planes = p.palette.empty() ? 2 : 4; // the result, and what is made on the way
        const auto steps = [&](const MasterFile& s) {
            return s.planes * (o.sharpen > 0 ? 1 + sharpening_tiles(s.width, s.height) : 1);
        };
        if (grid) planes += 2; // what is brought, and its coverage
        for (const MasterFile* s : p.sources)
            parts += steps(*s), planes += static_cast<std::uint64_t>(s->planes == 3 ? 6 : 1);
        if (p.luminance) parts += steps(*p.luminance), ++planes;
        const MasterFile& first = *p.sources.front();
        most = std::max(most, planes * static_cast<std::uint64_t>(first.width) *
                                      static_cast<std::uint64_t>(first.height) * sizeof(float) +
                                  (o.sharpen > 0 ? sharpening_bytes(first.width, first.height) : 0));
    }
    if (most > context.memory.for_buffers())
        throw DataError(fmt::format("to finish these images takes {:.1f} GB of memory, the budget is {:.1f} GB",
                                    1e-9 * static_cast<double>(most), 1e-9 * static_cast<double>(context.memory.bytes)),
                        sources.front().file, "Give more with --memory, or finish fewer at once");
    require_writable_folder(report.folder);
    remove_leftovers(report.folder);
    context.progress.begin("finish", parts);
    for (const FinishPlan& p : plans) {
        try {
            report.images.push_back(Work(p, o, grid ? &*grid : nullptr, report.folder, context).make());
            remove_former_pictures(p, o, report.folder, names);
        } catch (const DataError& e) {
            FinishedImage none;
            none.name = p.name, none.failure = e.what();
            report.images.push_back(std::move(none));
        }
    }
    context.progress.end();
    report.time = clock.seconds();
    return report;
}

} // namespace kasane
