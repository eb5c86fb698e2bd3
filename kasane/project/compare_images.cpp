#include <kasane/project/compare_images.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/finishing/comparison_pictures.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/regrid.hpp>
#include <kasane/io/input_file.hpp>
#include <kasane/io/png.hpp>
#include <kasane/registration/register.hpp>
#include <kasane/stages/outside_image.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// One image in memory.
struct Held {
    std::size_t index = 0; ///< in the report
    std::shared_ptr<const FrameView> view;
    Image pixels;
    ExposureMeasures measures;
    Transform to_image;
    std::vector<int> match;
    std::string content; ///< digest of its file
    double stated_noise = 0, stated_fwhm = 0;

    std::vector<double> skies() const {
        std::vector<double> out;
        for (const Measures& m : measures.planes)
            out.push_back(m.background);
        return out;
    }
};

fs::path picture_file(const CompareOptions& o, std::size_t index, const char* what) {
    return o.pictures / fmt::format("{}-{}.{}.png", index + 1, o.files[index].stem().string(), what);
}

constexpr const char* kSides = "sides.png";

std::vector<fs::path> all_pictures(const CompareOptions& o) {
    std::vector<fs::path> out;
    if (o.pictures.empty()) return out;
    out.push_back(o.pictures / kSides);
    for (std::size_t i = 0; i < o.files.size(); ++i) {
        out.push_back(picture_file(o, i, "crops"));
        if (i == 0) continue;
        out.push_back(picture_file(o, i, "split"));
        out.push_back(picture_file(o, i, "difference"));
    }
    return out;
}

void require_sense(const CompareOptions& o) {
    if (o.files.size() < 2)
        throw UsageError("to compare takes two images or more", o.files.empty() ? fs::path() : o.files.front(),
                         "Name them: kasane compare A.fits B.fits");
    std::error_code failed;
    for (std::size_t i = 0; i < o.files.size(); ++i)
        for (std::size_t j = 0; j < i; ++j)
            if (fs::equivalent(o.files[i], o.files[j], failed))
                throw UsageError("is named twice", o.files[i], "An image is no better than itself: name another one");
    for (const fs::path& picture : all_pictures(o)) {
        for (const fs::path& input : o.files)
            if (fs::exists(picture, failed) && fs::equivalent(picture, input, failed))
                throw UsageError("is an image of this call and would be written over", picture,
                                 "Name another folder with --pictures");
        require_replaceable(picture);
    }
    if (!o.pictures.empty()) require_writable_folder(o.pictures);
}

/// Throws DataError where the budget does not hold all of them.
void require_memory(const CompareOptions& o, const std::vector<Held>& held, const FrameView& next,
                    const Context& context) {
    const auto bytes = [](const FrameView& v) {
        return static_cast<std::uint64_t>(v.width()) * static_cast<std::uint64_t>(v.height()) *
               static_cast<std::uint64_t>(v.planes()) * sizeof(float);
    };
    std::uint64_t all = bytes(next);
    for (const Held& h : held)
        all += bytes(*h.view);
    if (!o.pictures.empty() && !held.empty()) all += bytes(*held.front().view); // the other one, on its grid
    if (all > context.memory.for_buffers())
        throw DataError(fmt::format("to compare these images takes {:.1f} GB of memory, the budget is {:.1f} GB",
                                    1e-9 * static_cast<double>(all), 1e-9 * static_cast<double>(context.memory.bytes)),
                        next.path(), "Give more with --memory, or compare fewer at once");
}

/// What the pixels are like, where there are no stars in them.
std::string starless(const Image& pixels) {
    const View<const float> plane = pixels.plane(main_plane(pixels.planes()));
    std::vector<float> some = sample_pixels(plane, 200000);
    if (some.empty()) return "has no data at all";
    constexpr double kTail = 0.002;
    const float low = quantile_in_place(some, kTail), middle = median_in_place(some),
                high = quantile_in_place(some, 1 - kTail);
    if (low == high) return "shows the same value everywhere";
    constexpr float kMuch = 3;
    if (middle - low > kMuch * (high - middle)) return "shows no stars, but dark dots on a bright sky: it is inverted";
    return "shows no stars that could be measured";
}

/// Steps so coarse that they are seen.
std::string coarse(const Image& pixels) {
    std::set<float> values;
    constexpr std::size_t kFew = 256;
    for (const float v : sample_pixels(pixels.plane(main_plane(pixels.planes())), 100000))
        if (values.insert(v).second && values.size() > kFew) return {};
    return fmt::format("has only {} different values (8 bits): what lies between its steps is lost, and its noise is "
                       "that of the steps",
                       values.size());
}

double share_without_data(const Image& pixels) {
    const View<const float> plane = pixels.plane(main_plane(pixels.planes()));
    std::int64_t none = 0;
    for (int y = 0; y < plane.height; ++y)
        none += std::count_if(plane.row(y), plane.row(y) + plane.width, [](float v) { return !std::isfinite(v); });
    return static_cast<double>(none) / static_cast<double>(pixels.bounds().area());
}

/// Share of the first image that another one shows.
double share_covered(const Transform& to_image, const Image& first, const Image& other) {
    constexpr int kAcross = 64;
    int inside = 0;
    for (int j = 0; j < kAcross; ++j)
        for (int i = 0; i < kAcross; ++i) {
            const Point p =
                to_image.map({(i + 0.5) * first.width() / kAcross - 0.5, (j + 0.5) * first.height() / kAcross - 0.5});
            inside += p.x >= -0.5 && p.y >= -0.5 && p.x <= other.width() - 0.5 && p.y <= other.height() - 0.5;
        }
    return static_cast<double>(inside) / (kAcross * kAcross);
}

/// What a master light of ours says of itself.
struct Account {
    double noise = 0, fwhm = 0; ///< 0: nothing
};

/// Of a file that is as it was written: others take headers over with pixels that they changed.
Account account_of(const fs::path& file, const FrameSummary& summary) {
    const Exposure e = describe_exposure(file.string(), summary);
    if (!e.made_by_kasane || e.role != Role::light || !summary.header.find("CHECKSUM")) return {};
    // Interpolated colours have the noise of fewer samples than pixels.
    const Account out{summary.header.number({"NOISELRG", "NOISE"}).value_or(0),
                      summary.header.number("FWHMIN").value_or(0)};
    const bool sound = std::isfinite(out.noise) && std::isfinite(out.fwhm) && open_frame(file)->check_sums().empty();
    return sound ? out : Account{};
}

class Comparing {
public:
    Comparing(const CompareOptions& options, const Context& context) : o_(options), context_(context) {}

    CompareReport run() {
        const Stopwatch clock;
        require_sense(o_);
        if (!o_.pictures.empty()) remove_leftovers(o_.pictures);
        report_.images.resize(o_.files.size());
        context_.progress.begin("compare images", static_cast<std::int64_t>(2 * o_.files.size()));
        for (std::size_t i = 0; i < o_.files.size(); ++i) {
            context_.workers.cancel().check();
            report_.images[i].file = o_.files[i];
            if (i == 0) {
                take(i);
                if (!report_.images[0].text.empty())
                    throw DataError(report_.images[0].text, o_.files[0],
                                    "Name first an image with stars, as it came out of an integration");
            } else if (const auto failure = attempt([&] { take(i); })) {
                report_.images[i].text = failure->what_failed + ". " + failure->remedy;
            }
            context_.progress.advance(1);
        }
        if (held_.size() < 2) {
            std::string why;
            for (const JudgedImage& image : report_.images)
                if (!image.text.empty()) why += fmt::format("; {}: {}", image.file.string(), image.text);
            throw DataError("there is nothing to compare it with" + why, o_.files.front(),
                            "Name images of the same field");
        }
        judge();
        context_.progress.end();
        if (!o_.pictures.empty()) draw();
        report_.time = clock.seconds();
        return std::move(report_);
    }

private:
    /// Reads, measures and registers one; what is against it stands in the report.
    void take(std::size_t i) {
        JudgedImage& told = report_.images[i];
        Held h;
        h.index = i;
        h.view = view_of_image(o_.files[i]);
        require_memory(o_, held_, *h.view, context_);
        h.content = content_digest(o_.files[i]);
        h.measures = measure_image(*h.view, context_.memory, many_stars());
        h.pixels = read_planes(*h.view);
        h.view->release();
        const FrameSummary summary = read_summary(o_.files[i]);
        const Account account = account_of(o_.files[i], summary);
        h.stated_noise = account.noise, h.stated_fwhm = account.fwhm;
        if (!summary.linear) told.doubts.push_back("is no linear image: its format is for looking at");
        told.width = h.pixels.width(), told.height = h.pixels.height(), told.planes = h.pixels.planes();
        told.no_data = share_without_data(h.pixels);
        const std::vector<Star>& stars = h.measures.main().stars;
        told.stars = static_cast<int>(stars.size());
        if (stars.empty()) {
            told.text = starless(h.pixels);
            return;
        }
        if (i > 0) {
            const Held& first = held_.front();
            RegistrationOptions options;
            options.reference = {first.pixels.width(), first.pixels.height(), nullptr};
            options.frame = {told.width, told.height, nullptr};
            const Outcome found = register_stars(first.measures.main().stars, stars, options);
            if (!found) {
                told.text = found.text + ". Does it show the same field?";
                return;
            }
            h.to_image = found->to_frame;
            h.match.assign(first.measures.main().stars.size(), -1);
            for (const StarMatch& m : found->matches)
                h.match[static_cast<std::size_t>(m.reference)] = m.frame;
            told.matched = found->matched, told.rms = found->rms;
            Point middle; // of what both show
            for (const StarMatch& m : found->matches) {
                const Star& star = first.measures.main().stars[static_cast<std::size_t>(m.reference)];
                middle.x += star.x / static_cast<double>(found->matches.size());
                middle.y += star.y / static_cast<double>(found->matches.size());
            }
            const Affine near = h.to_image.at(middle);
            told.turn = near.rotation(), told.mirrored = near.mirrors();
            told.covered = share_covered(h.to_image, first.pixels, h.pixels);
            if (first.content == h.content) told.doubts.push_back("is byte for byte the same file as the first");
        }
        if (const std::string steps = coarse(h.pixels); !steps.empty()) told.doubts.push_back(steps);
        constexpr double kHole = 0.01;
        if (told.no_data > kHole)
            told.doubts.push_back(fmt::format("{:.0f} % of its pixels have no data", 100 * told.no_data));
        held_.push_back(std::move(h));
    }

    void judge() {
        std::vector<ComparedImage> images;
        for (const Held& h : held_)
            images.push_back({&h.pixels, &h.measures.main().stars, &h.measures.main().mesh, h.measures.main().fwhm,
                              h.stated_noise, h.stated_fwhm, h.to_image, h.match});
        Comparison judged;
        try {
            judged = compare(images, context_.workers);
        } catch (const DataError& e) {
            throw DataError(e.what_failed(), o_.files.front(), e.remedy());
        }
        report_.stars = judged.stars, report_.places = judged.places;
        report_.by_account = judged.by_account;
        for (std::size_t k = 0; k < held_.size(); ++k) {
            JudgedImage& told = report_.images[held_[k].index];
            told.judged = true;
            told.told = std::move(judged.images[k]);
            constexpr double kBent = 0.03, kSure = 5; // of a ratio by brightness
            if (std::abs(told.told.slope) > kBent && std::abs(told.told.slope) > kSure * told.told.slope_error)
                told.doubts.push_back(fmt::format(
                    "its stars are {:+.0f} % for every factor of ten that they are brighter in the first: one of the "
                    "two is stretched or not linear, and what is told of light, noise and depth holds for neither",
                    100 * told.told.slope));
            context_.progress.advance(1);
        }
        if (report_.places == 0)
            report_.images.front().doubts.push_back(
                "hardly any sky without stars is seen in all images: noise and depth are not told");
    }

    /// On the grid of the first, at its light and sky.
    void draw() {
        const Held& first = held_.front();
        const Canvas canvas = reference_canvas(first.pixels.width(), first.pixels.height());
        context_.progress.begin("draw pictures", canvas.bounds().area() * static_cast<std::int64_t>(held_.size() - 1));
        const std::vector<Stretch> stretches = choose_stretches(first.pixels);
        constexpr int kMost = 1600, kSide = 320;
        const int most = std::max(400, kMost / static_cast<int>(held_.size()));
        const auto rendered = [&](const Image& image, int longest) {
            std::vector<Stretch> own = stretches;
            own.resize(static_cast<std::size_t>(image.planes()), stretches[stretches.size() / 2]);
            return render_planes(image, own, longest);
        };
        const auto crop = [&](const Image& image) {
            std::vector<Stretch> own = stretches;
            own.resize(static_cast<std::size_t>(image.planes()), stretches[stretches.size() / 2]);
            return crops(image, own, kSide);
        };
        std::vector<Raster<std::uint8_t>> sides{rendered(first.pixels, most)};
        const Raster<std::uint8_t> whole = rendered(first.pixels, kMost);
        write(picture_file(o_, 0, "crops"), crop(first.pixels), "the middle and the corners, pixel by pixel");
        for (std::size_t k = 1; k < held_.size(); ++k) {
            const Held& h = held_[k];
            const JudgedImage& told = report_.images[h.index];
            std::vector<double> noise;
            for (int p = 0; p < h.pixels.planes(); ++p)
                noise.push_back(
                    h.measures.planes[std::min(static_cast<std::size_t>(p), h.measures.planes.size() - 1)].noise);
            RegriddedImage on_grid = regrid(h.view, h.to_image, canvas, noise, context_);
            bring_to_level(on_grid.pixels, h.skies(), told.told.ratio / (told.told.scale * told.told.scale),
                           first.skies());
            sides.push_back(rendered(on_grid.pixels, most));
            write(picture_file(o_, h.index, "crops"), crop(on_grid.pixels), "the same places");
            write(picture_file(o_, h.index, "split"), split(whole, rendered(on_grid.pixels, kMost)),
                  "left the first, right this one");
            const DifferencePicture difference =
                difference_picture(first.pixels.plane(main_plane(first.pixels.planes())),
                                   on_grid.pixels.plane(main_plane(on_grid.pixels.planes())), kMost);
            write(picture_file(o_, h.index, "difference"), difference.pixels,
                  fmt::format("this one less the first, at one light and sky; white is {:.3g} ADU of the first more, "
                              "black as much less",
                              difference.white));
        }
        write(o_.pictures / kSides, beside(sides), "all, from the left, on the grid of the first");
        context_.progress.end();
    }

    void write(const fs::path& file, const Raster<std::uint8_t>& picture, std::string text) {
        context_.workers.cancel().check();
        write_png(file, picture);
        report_.pictures.push_back({file, std::move(text)});
    }

    const CompareOptions& o_;
    const Context& context_;
    CompareReport report_;
    std::vector<Held> held_;
};

} // namespace

bool CompareReport::clean() const {
    return std::all_of(images.begin(), images.end(), [](const JudgedImage& i) { return i.judged && i.doubts.empty(); });
}

CompareReport compare_images(const CompareOptions& options, const Context& context) {
    return Comparing(options, context).run();
}

} // namespace kasane
