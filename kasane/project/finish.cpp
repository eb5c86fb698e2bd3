#include <kasane/project/finish.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/finishing/gradient_picture.hpp>
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
#include <kasane/project/result.hpp>
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

/// A master light as it lies there.
struct MasterFile {
    fs::path file;
    std::string name;   ///< of the stack, or the file
    std::string filter; ///< folded; may be empty
    std::string target;
    int width = 0, height = 0, planes = 1;
    Header header;
    std::vector<double> noise; ///< by plane, as stated; empty: not stated
};

/// What becomes one image.
struct Plan {
    std::string name;
    std::vector<const MasterFile*> sources; ///< of one plane each, or one of three
    Palette palette;                        ///< empty: one plane
    const MasterFile* luminance = nullptr;
};

const std::set<std::string>& kept_cards() { // what is so of the canvas and of the instrument
    static const std::set<std::string> kept = {"IMAGETYP", "ROWORDER", "BUNIT",    "OBJECT",   "INSTRUME",
                                               "TELESCOP", "FOCALLEN", "REFERENC", "REFPRINT", "DATE-OBS"};
    return kept;
}

std::vector<double> stated_noise(const Header& h, int planes) {
    std::vector<double> out;
    for (int p = 0; p < planes; ++p) {
        static const char* kKeys[] = {"NOISER", "NOISEG", "NOISEB"};
        const auto value = planes == 3 ? h.number(kKeys[p]) : h.number("NOISE");
        if (!value || !(*value > 0)) return {};
        out.push_back(*value);
    }
    return out;
}

MasterFile source_of(const fs::path& file) {
    MasterFile s;
    s.file = file;
    const FrameSummary summary = read_summary(file);
    if (!summary.linear)
        throw InputError("is no linear image: its format is for looking at", file, "Name the FITS file it was made of");
    const auto view = view_of_image(file);
    s.width = view->width(), s.height = view->height(), s.planes = view->planes();
    s.header = summary.header;
    const Exposure e = describe_exposure(file.string(), summary);
    s.name = file.stem().string();
    s.filter = fold_filter(e.filter);
    s.target = e.target;
    if (e.made_by_kasane) s.noise = stated_noise(summary.header, s.planes);
    return s;
}

class Planner {
public:
    /// `strict`: files are named, and belong together.
    Planner(const FinishOptions& o, bool strict, std::vector<std::string>& notes)
        : strict_(strict || !o.palette.empty()), o_(o), notes_(notes) {}

    /// Of master lights of one target.
    std::vector<Plan> plan(const std::vector<const MasterFile*>& group) {
        std::vector<Plan> out;
        std::vector<const MasterFile*> mono;
        for (const MasterFile* s : group) {
            if (s->planes == 3)
                out.push_back({s->name, {s}, own_colours(), nullptr});
            else
                mono.push_back(s);
        }
        std::set<const MasterFile*> used;
        if (o_.combine && !mono.empty()) in_colour(mono, used, out);
        for (const MasterFile* s : mono)
            if (!used.count(s)) out.push_back({s->name, {s}, {}, nullptr});
        return out;
    }

private:
    static Palette own_colours() { return {{{{{"R", 1}}, {{"G", 1}}, {{"B", 1}}}}}; }

    /// The one of a filter; null where there is none. Several are an error where files or filters are named, else a
    /// reason to leave it.
    const MasterFile* of_filter(const std::vector<const MasterFile*>& mono, const std::string& name,
                                std::string& why) const {
        std::vector<const MasterFile*> found;
        for (const MasterFile* s : mono)
            if (s->filter == name) found.push_back(s);
        if (found.size() < 2) return found.empty() ? nullptr : found.front();
        why = fmt::format("there are several master lights of {}", name);
        constexpr const char* kRemedy = "Name the files that belong together: kasane finish R.fits G.fits B.fits";
        if (strict_) throw UsageError(why, found[1]->file, kRemedy);
        return nullptr;
    }

    void in_colour(const std::vector<const MasterFile*>& mono, std::set<const MasterFile*>& used,
                   std::vector<Plan>& out) {
        Plan plan;
        plan.palette = o_.palette.empty() ? own_colours() : o_.palette;
        std::string why;
        std::vector<std::string> missing;
        for (Palette::Sum& sum : plan.palette.colours)
            for (auto& [name, factor] : sum) {
                name = fold_filter(name);
                const MasterFile* s = of_filter(mono, name, why);
                if (!s)
                    missing.push_back(name);
                else if (std::find(plan.sources.begin(), plan.sources.end(), s) == plan.sources.end())
                    plan.sources.push_back(s);
            }
        if (!missing.empty() && why.empty()) {
            std::vector<std::string> there;
            for (const MasterFile* s : mono)
                there.push_back(s->filter.empty() ? s->file.filename().string() : s->filter);
            why =
                fmt::format("no master light of {}; there are {}", fmt::join(missing, " and "), fmt::join(there, ", "));
            if (!o_.palette.empty())
                throw UsageError("the palette cannot be made: " + why, {}, "Name filters that are there");
            why += ". A palette says which filters make red, green and blue: --palette \"Ha; 0.5 Ha + 0.5 OIII; OIII\"";
        }
        for (const MasterFile* s : plan.sources)
            if (why.empty() && !on_one_canvas(*s, *plan.sources.front())) {
                why = fmt::format("{} is {} x {} pixels, {} {} x {}: they do not lie on one canvas",
                                  s->file.filename().string(), s->width, s->height,
                                  plan.sources.front()->file.filename().string(), plan.sources.front()->width,
                                  plan.sources.front()->height);
                if (strict_)
                    throw UsageError(why, s->file,
                                     "Bring them onto one: kasane align A.fits B.fits --onto C.fits --write DIR");
            }
        if (!why.empty()) {
            if (mono.size() > 1) notes_.push_back("no picture in colour: " + why);
            return;
        }
        if (o_.luminance) {
            plan.luminance = of_filter(mono, "L", why);
            if (plan.luminance && !on_one_canvas(*plan.luminance, *plan.sources.front())) {
                why = plan.luminance->file.filename().string() + " lies on another canvas";
                plan.luminance = nullptr;
            }
            if (!why.empty()) notes_.push_back("L gives no brightness: " + why);
        }
        std::string name = plan.sources.front()->name;
        for (const MasterFile* s : plan.sources)
            name = common_words(name, s->name);
        if (plan.luminance) name = common_words(name, plan.luminance->name);
        if (name.empty()) name = squeezed(plan.sources.front()->target);
        plan.name = (name.empty() ? "master" : name) + "-colour";
        used.insert(plan.sources.begin(), plan.sources.end());
        if (plan.luminance) used.insert(plan.luminance);
        out.push_back(std::move(plan));
    }

    static bool on_one_canvas(const MasterFile& a, const MasterFile& b) {
        return a.width == b.width && a.height == b.height;
    }

    const bool strict_;
    const FinishOptions& o_;
    std::vector<std::string>& notes_;
};

/// One plane in work.
struct Channel {
    FinishedPart told;
    Image pixels;
    StarList stars;
};

class Work {
public:
    Work(const Plan& plan, const FinishOptions& o, const fs::path& folder, const Context& context)
        : plan_(plan), o_(o), folder_(folder), context_(context) {
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
        Image out = plan_.palette.empty() ? std::move(channels.front().pixels) : in_colour(channels);
        if (plan_.palette.empty()) {
            image_.noise.fill(channels.front().told.noise);
            pedestal_ = channels.front().told.sky; // its own
        }
        for (Channel& c : channels)
            image_.parts.push_back(std::move(c.told));
        if (luminance_) image_.parts.push_back(std::move(luminance_->told));
        if (o_.reshape.any()) {
            const int width = out.width(), height = out.height();
            out = reshaped(out, o_.reshape);
            tell_shape(width, height);
            for (double& n : image_.noise)
                n /= o_.reshape.bin;
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
    /// Its planes, gradients taken off.
    std::vector<Channel> take(const MasterFile& s) {
        const auto view = view_of_image(s.file);
        Image all = read_planes(*view);
        view->release();
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
            out.push_back(take(s, p, std::move(one)));
        }
        return out;
    }

    Channel take(const MasterFile& s, int plane, Image pixels) {
        context_.workers.cancel().check();
        Channel c;
        static const char* kColours[] = {"R", "G", "B"};
        c.told.name = s.planes == 3 ? kColours[plane] : s.filter.empty() ? s.name : s.filter;
        c.told.file = s.file;
        c.pixels = std::move(pixels);
        c.stars = detect_stars(c.pixels.plane());
        if (sample_pixels(c.pixels.plane(), 1000000).empty())
            throw DataError("has no data that could be finished", s.file, {});
        c.told.noise = s.noise.empty() ? static_cast<double>(c.stars.noise) : s.noise[static_cast<std::size_t>(plane)];
        c.told.sky = static_cast<double>(c.stars.background.global_level);
        try {
            const Gradient g = fit_gradient(c.pixels.plane(), c.stars, o_.gradient, context_.workers);
            c.told.sky = g.sky;
            c.told.gradient = g.kind, c.told.size = g.size, c.told.left = g.left, c.told.expected = g.expected;
            c.told.share = g.share();
            if (o_.background) {
                c.told.picture = folder_ / fmt::format("{}-sky-{}.png", plan_.name, squeezed(c.told.name));
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
        luminance_ = std::move(take(*plan_.luminance).front());
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
        const Reshape& r = o_.reshape;
        std::vector<std::string> words;
        if (!r.crop.empty())
            words.push_back(fmt::format("cropped to {} x {} pixels at {}, {} of {} x {}", r.crop.width, r.crop.height,
                                        r.crop.x, r.crop.y, width, height));
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
        if (const auto world = world_of_image(first.file)) {
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
        for (const FinishedPart& p : image_.parts) {
            out.push_back(fmt::format("of {}: {}", p.name, p.file.filename().string()));
            if (p.taken_off)
                out.push_back(fmt::format("background of {}: {}, {:.4g} from end to end, {}; sky {:.6g}", p.name,
                                          p.gradient, p.size, o_.divide ? "divided" : "subtracted", p.sky));
        }
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

    const Plan& plan_;
    const FinishOptions& o_;
    const fs::path& folder_;
    const Context& context_;
    FinishedImage image_;
    std::optional<Channel> luminance_;
    double pedestal_ = 0;
    Affine former_; ///< from pixels of the result to those of the master lights
};

/// Before any work.
void require_sense(const FinishOptions& o) {
    for (const std::string& wrong : {o.gradient.check(), o.reshape.check(), o.tone.check()})
        if (!wrong.empty()) throw UsageError(wrong, {}, "See [finish] in docs/recipe.md");
}

std::vector<fs::path> results_of(const Plan& plan, const fs::path& folder) {
    std::vector<fs::path> out;
    for (const char* ending : {".fits", ".tif", ".png"})
        out.push_back(folder / (plan.name + ending));
    return out;
}

} // namespace

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
    require_sense(o);
    std::vector<MasterFile> sources;
    std::vector<fs::path> files = call.files;
    std::error_code failed;
    if (files.empty()) {
        const RunReport run = last_run(call.project);
        for (const StackReport& s : run.stacks)
            if (!s.file.empty() && fs::exists(fs::path(run.output) / s.file, failed))
                files.push_back(fs::path(run.output) / s.file);
        if (files.empty())
            throw UsageError("there are no master lights that could be finished", run.output,
                             "Make them first: kasane run");
        report.folder = call.to.empty() ? fs::path(run.output) / "finished" : call.to;
    } else {
        report.folder = call.to.empty() ? fs::path("finished") : call.to;
    }
    for (std::size_t i = 0; i < files.size(); ++i) {
        for (std::size_t j = 0; j < i; ++j)
            if (fs::equivalent(files[i], files[j], failed))
                throw UsageError("is named twice", files[i], "Name it once");
        sources.push_back(source_of(files[i]));
    }
    std::map<std::string, std::vector<const MasterFile*>> groups; // by target; files that are named belong together
    for (const MasterFile& s : sources)
        groups[call.files.empty() ? squeezed(s.target) : std::string()].push_back(&s);
    Planner planner(o, !call.files.empty(), report.notes);
    std::vector<Plan> plans;
    for (const auto& [target, group] : groups)
        for (Plan& p : planner.plan(group))
            plans.push_back(std::move(p));
    if (!o.palette.empty() && std::none_of(plans.begin(), plans.end(), [](const Plan& p) {
            return !p.palette.empty() && p.sources.front()->planes == 1;
        }))
        report.notes.push_back("the palette is for master lights of single filters, of which there are none");
    std::set<std::string> names;
    std::int64_t parts = 0;
    std::uint64_t most = 0;
    for (const Plan& p : plans) {
        if (!names.insert(p.name).second)
            throw UsageError(fmt::format("two images would be called {}", p.name), p.sources.front()->file,
                             "Finish them one after the other, each into a folder of its own (--to)");
        for (const fs::path& result : results_of(p, report.folder)) {
            for (const MasterFile& s : sources)
                if (fs::exists(result, failed) && fs::equivalent(result, s.file, failed))
                    throw UsageError("is an image of this call and would be written over", result,
                                     "Name another folder with --to");
            require_replaceable(result);
        }
        std::uint64_t planes = p.palette.empty() ? 2 : 4; // the result, and what is made on the way
        for (const MasterFile* s : p.sources)
            parts += s->planes, planes += static_cast<std::uint64_t>(s->planes == 3 ? 6 : 1);
        if (p.luminance) ++parts, ++planes;
        const MasterFile& first = *p.sources.front();
        most = std::max(most, planes * static_cast<std::uint64_t>(first.width) *
                                  static_cast<std::uint64_t>(first.height) * sizeof(float));
    }
    if (most > context.memory.for_buffers())
        throw DataError(fmt::format("to finish these images takes {:.1f} GB of memory, the budget is {:.1f} GB",
                                    1e-9 * static_cast<double>(most), 1e-9 * static_cast<double>(context.memory.bytes)),
                        sources.front().file, "Give more with --memory, or finish fewer at once");
    require_writable_folder(report.folder);
    remove_leftovers(report.folder);
    context.progress.begin("finish", parts);
    for (const Plan& p : plans) {
        try {
            report.images.push_back(Work(p, o, report.folder, context).make());
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
