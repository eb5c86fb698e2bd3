#include <kasane/project/result.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/base/units.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/project/check.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <functional>
#include <map>

namespace fs = std::filesystem;

namespace kasane {

namespace {

constexpr std::size_t kShownStars = 150;
constexpr int kStamp = 41, kFiner = 3; // pixels of a mean star; to one of the master light

Level level_named(const std::string& name) {
    for (const Level l : {Level::note, Level::warning, Level::blocker})
        if (level_name(l) == name) return l;
    return Level::note;
}

RunReport run_of(const nlohmann::json& j) {
    RunReport r;
    r.folder = j.at("folder");
    r.output = j.at("output");
    r.masters = j.at("masters").get<std::vector<MasterReport>>();
    r.stacks = j.at("stacks").get<std::vector<StackReport>>();
    r.composites = j.at("together").get<std::vector<CompositeReport>>();
    for (const auto& f : j.at("findings"))
        r.findings.push_back({level_named(f.at("level")), f.at("code"), f.at("files").get<std::vector<std::string>>(),
                              f.at("text"), f.at("remedy")});
    r.time = j.at("time");
    return r;
}

/// A plane of an image, on the disk of the image where it is larger than half of the memory.
Image plane_of(const FrameReader& reader, const fs::path& file, const Context& context) {
    const auto bytes =
        static_cast<std::uint64_t>(reader.width()) * static_cast<std::uint64_t>(reader.height()) * sizeof(float);
    std::shared_ptr<Scratch> scratch;
    if (bytes > context.memory.for_buffers() / 2)
        scratch = std::make_shared<Scratch>(file.parent_path(), context.memory);
    Image image(reader.width(), reader.height(), 1, 0, std::move(scratch));
    constexpr int kRows = 256; // at a time
    for (int y = 0; y < image.height(); y += kRows) {
        const Region band = intersect({0, y, image.width(), kRows}, image.bounds());
        reader.read(band, image.plane().crop(band), main_plane(reader.planes()));
        reader.release();
    }
    return image;
}

MasterLook look_at(const fs::path& file, const StackReport& stack, const Context& context) {
    MasterLook look;
    look.stack = stack.name;
    look.finer = kFiner;
    const auto reader = open_frame(file);
    look.width = reader->width(), look.height = reader->height();
    const Image image = plane_of(*reader, file, context);
    const View<const float> plane = image.plane();
    const StarList list = detect_stars(plane);
    look.count = static_cast<int>(std::lround(list.count));
    look.shape = field_shape(list.stars, look.width, look.height);
    for (int k = 0; k < 9; ++k) {
        const int x0 = look.width * (k % 3) / 3, x1 = look.width * (k % 3 + 1) / 3, y0 = look.height * (k / 3) / 3,
                  y1 = look.height * (k / 3 + 1) / 3;
        look.mean_stars[static_cast<std::size_t>(k)] =
            mean_star(plane, list.stars, {x0, y0, x1 - x0, y1 - y0}, kStamp, kFiner);
    }
    look.stars.resize(std::min(kShownStars, list.stars.size()));
    context.workers.for_each(look.stars.size(), [&](std::size_t k) {
        look.stars[k] = look_at_star(plane, list.stars[k], {}, list.fwhm, static_cast<double>(list.noise));
    });
    return look;
}

/// From the bytes of a preview to those of a screen, by one zero and softness for all that are compared.
Raster<std::uint8_t> for_screen(const FramePicture& p, const PreviewScale& common) {
    Raster<std::uint8_t> out(p.pixels.width(), p.pixels.height(), p.pixels.planes());
    constexpr double kBelow = 1.2, kWhite = 90; // as the review page: softnesses below the sky, and above it
    for (int c = 0; c < out.planes(); ++c) {
        const auto plane = static_cast<std::size_t>(std::min(c, std::max(0, common.planes - 1)));
        std::array<std::uint8_t, 256> table{};
        for (std::size_t b = 0; b < table.size(); ++b) {
            const double value = static_cast<double>(p.scale.decode(c, static_cast<std::uint8_t>(b)));
            const double t = (std::asinh((value - static_cast<double>(common.zero[plane])) /
                                         static_cast<double>(common.softness[plane])) +
                              kBelow) /
                             (std::asinh(kWhite) + kBelow);
            table[b] = static_cast<std::uint8_t>(std::lround(std::clamp(255 * t, 0.0, 255.0)));
        }
        for (int y = 0; y < out.height(); ++y)
            for (int x = 0; x < out.width(); ++x)
                out(x, y, c) = table[p.pixels(x, y, c)];
    }
    return out;
}

/// A light that is shown.
struct ShownLight {
    std::size_t stack, frame;
    const char* what;
    bool raw;
    FramePicture picture{};
    std::optional<std::string> trouble{};
};

/// What kept something from being shown; nothing if it went well.
template <class F>
std::optional<std::string> trouble_of(F&& f) {
    try {
        f();
    } catch (const Cancelled&) {
        throw;
    } catch (const Error& e) {
        return e.what_failed();
    }
    return std::nullopt;
}

/// The best and the worst light of a stack that were used, and the best as it came from the camera.
void choose_lights(const GradedProject& project, std::size_t stack, std::vector<ShownLight>& shown) {
    const StackGrade& s = project.report.stacks[stack];
    const std::optional<std::size_t> best = best_kept(s.frames);
    if (!best) return;
    std::size_t worst = *best;
    const auto worth = [&](std::size_t i) { return s.frames[i].contribution.worth; };
    for (std::size_t i = 0; i < s.frames.size(); ++i)
        if (s.frames[i].measures && s.frames[i].verdict.keep && worth(i) < worth(worst)) worst = i;
    shown.push_back({stack, *best, "best", false});
    if (worst != *best) shown.push_back({stack, worst, "worst", false});
    shown.push_back({stack, *best, "as it came", true});
}

/// Their pictures for the page: the calibrated ones of a stack by one scale.
void hand_out(const GradedProject& project, const std::vector<ShownLight>& shown, ProjectResult& result) {
    std::map<std::size_t, PreviewScale> common;
    for (const ShownLight& l : shown) {
        const StackGrade& s = project.report.stacks[l.stack];
        const std::string& path = s.frames[l.frame].path;
        if (l.trouble) {
            result.left_out.push_back(fmt::format("{}: {}", path, *l.trouble));
            continue;
        }
        const PreviewScale& first = common.try_emplace(l.stack, l.picture.scale).first->second;
        result.frames.push_back({s.name, path, l.what, for_screen(l.picture, l.raw ? l.picture.scale : first)});
    }
}

/// What a page says of the master lights that there are, several at once, while `meanwhile` goes on.
void look_at_masters(const fs::path& output, const Context& context, ProjectResult& result,
                     const std::function<void()>& meanwhile) {
    std::vector<const StackReport*> made;
    std::uint64_t largest = 1; // bytes of a plane
    for (const StackReport& s : result.run.stacks) {
        if (s.file.empty()) continue;
        made.push_back(&s);
        (void)attempt([&] {
            const auto reader = open_frame(output / s.file);
            largest = std::max(largest, sizeof(float) * static_cast<std::uint64_t>(reader->width()) *
                                            static_cast<std::uint64_t>(reader->height()));
        });
    }
    result.masters.resize(made.size());
    constexpr std::uint64_t kHeld = 3; // planes, with what finding stars takes
    context.workers.for_each(
        1 + made.size(),
        [&](std::size_t k) {
            if (k == 0) return meanwhile();
            const StackReport& s = *made[k - 1];
            MasterLook& look = result.masters[k - 1];
            const auto trouble = trouble_of([&] { look = look_at(output / s.file, s, context); });
            if (trouble) look = {.stack = s.name, .trouble = *trouble};
        },
        context.memory.fitting(kHeld * largest, context.workers.threads()));
    context.progress.advance(static_cast<std::int64_t>(made.size()));
}

/// As the run has drawn it already, or else from its file.
FramePicture picture_as_it_came(const GradedProject& graded, const ShownLight& light, const RunReport& run) {
    const FrameGrade& f = graded.report.stacks[light.stack].frames[light.frame];
    for (const DrawnLight& drawn : run.as_they_came)
        if (drawn.key == f.key) return drawn.picture;
    return graded.picture(light.stack, light.frame, {}, true);
}

/// Lights that are shown, several at once.
void look_at_lights(const GradedProject& graded, const Context& context, ProjectResult& result) {
    std::vector<ShownLight> shown;
    for (std::size_t k = 0; k < graded.report.stacks.size(); ++k)
        choose_lights(graded, k, shown);
    std::uint64_t largest = 1; // bytes of one, all planes
    for (const ShownLight& l : shown) {
        const FrameGrade& f = graded.report.stacks[l.stack].frames[l.frame];
        if (f.measures)
            largest = std::max(largest, 3 * sizeof(float) * static_cast<std::uint64_t>(f.measures->width) *
                                            static_cast<std::uint64_t>(f.measures->height));
    }
    context.workers.for_each(
        shown.size(),
        [&](std::size_t k) {
            ShownLight& l = shown[k];
            l.trouble = trouble_of([&] {
                l.picture = l.raw ? picture_as_it_came(graded, l, result.run) : graded.preview(l.stack, l.frame);
            });
            context.progress.advance(1);
        },
        context.memory.fitting(largest, context.workers.threads()));
    hand_out(graded, shown, result);
}

std::vector<FileGroup> groups_of(const std::vector<Exposure>& exposures) {
    std::map<std::array<std::string, 3>, int> counts;
    for (const Exposure& e : exposures) {
        const std::string folder = fs::path(e.path).parent_path().generic_string();
        const Source source = e.source(Field::role);
        const bool by_file = source.origin == Origin::path && source.detail.starts_with("file");
        ++counts[{folder.empty() ? "." : folder, (e.is_master ? "master " : "") + std::string(role_name(e.role)),
                  by_file ? "file name" : source.text()}];
    }
    std::vector<FileGroup> out;
    for (const auto& [what, count] : counts)
        out.push_back({what[0], what[1], what[2], count});
    return out;
}

} // namespace

StackGrowth growth_of(const StackReport& stack) {
    std::vector<GrowthLight> lights;
    for (const FrameReport& f : stack.frames)
        if (f.used) lights.push_back({f.night, f.seconds, f.worth});
    return growth_of(lights, stack.noise);
}

RunReport last_run(const RunOptions& options) {
    require_exposure_folder(options.folder);
    const fs::path output = output_of(options, recipe_of(options)), file = output / "report.json";
    const auto text = content_of(file);
    if (!text) throw UsageError("there is no report of a run yet", file, "Make master lights first: kasane run");
    try {
        RunReport report = run_of(nlohmann::json::parse(*text));
        report.folder = options.folder.string(); // wherever it lies now
        report.output = output.string();
        return report;
    } catch (const nlohmann::json::exception& e) {
        throw InputError("is not what a run wrote, or of another version of Kasane", file,
                         "Run again: kasane run makes it anew");
    }
}

ProjectResult look_at_result(const RunOptions& options, RunReport run, const Context& context) {
    ProjectResult result;
    result.run = std::move(run);
    const fs::path output(result.run.output);
    constexpr std::size_t kLooks = 4; // of a stack: its master light, and three lights
    context.progress.begin("report", static_cast<std::int64_t>(kLooks * result.run.stacks.size()));
    // The master lights can be shown whatever has become of the lights.
    const auto try_to = [&](const char* what, const auto& show) {
        try {
            show();
        } catch (const Cancelled&) {
            throw;
        } catch (const Error& e) {
            result.left_out.push_back(fmt::format("{}: {}", what, e.what()));
        }
    };
    GradeOptions grading;
    grading.run = options;
    std::optional<GradedProject> graded;
    look_at_masters(output, context, result, [&] {
        try_to("whether all is up to date", [&] {
            for (const ResultStatus& s : project_status(options, context).results)
                if (s.state == ResultStatus::State::stale || s.state == ResultStatus::State::missing)
                    result.stale.push_back(fmt::format("{} is {}{}", s.name, state_name(s.state),
                                                       s.reasons.empty() ? "" : ": " + s.reasons.front()));
        });
        try_to("which files are what",
               [&] { result.files = groups_of(scan_project(options, context).scan.exposures); });
        try_to("how the lights were registered", [&] { result.registration = align_project(options, context); });
        try_to("the lights", [&] { graded.emplace(grading, context); });
    });
    if (graded) look_at_lights(*graded, context, result);
    context.progress.end();
    return result;
}

} // namespace kasane
