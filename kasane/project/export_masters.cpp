#include <kasane/project/export_masters.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/finishing/tone.hpp>
#include <kasane/frames/exposure.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/io/colour_profile.hpp>
#include <kasane/io/file_planes.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/jpeg.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/tiff.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/project/export_header.hpp>
#include <kasane/project/master_files.hpp>
#include <kasane/stages/outside_image.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <numeric>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

struct Source : MasterFile {
    std::map<std::string, std::string> fields; ///< for names
};

struct Target {
    MasterFormat format;
    bool stretched;
    fs::path file;
};

const char* ending_of(MasterFormat f) {
    switch (f) {
    case MasterFormat::fits:
        return ".fits";
    case MasterFormat::tiff:
    case MasterFormat::tiff_float:
        return ".tif";
    case MasterFormat::png:
    case MasterFormat::png_8:
        return ".png";
    case MasterFormat::jpeg:
        return ".jpg";
    }
    return "";
}

bool is_whole(MasterFormat f) {
    return f != MasterFormat::fits && f != MasterFormat::tiff_float;
}

Source source_of(const fs::path& file) {
    Source s{master_of(file), {}};
    if (s.planes != 1 && s.planes != 3)
        throw InputError(fmt::format("has {} planes; pictures have one, or three", s.planes), file, {});
    s.fields = {{"name", s.name}, {"target", file_safe(s.target)}, {"filter", file_safe(s.filter)}};
    if (const auto seconds = s.header.number("EXPTIME")) s.fields["seconds"] = fmt::format("{:.0f}", *seconds);
    if (const auto frames = s.header.number("NCOMBINE")) s.fields["frames"] = fmt::format("{:.0f}", *frames);
    return s;
}

/// The template with its fields filled in.
std::string name_of(const Source& s, const std::string& wanted) {
    constexpr const char* kFields = "{name}, {target}, {filter}, {seconds} and {frames} are known";
    std::string out;
    for (std::size_t i = 0; i < wanted.size(); ++i) {
        if (wanted[i] != '{') {
            out += wanted[i];
            continue;
        }
        const std::size_t end = wanted.find('}', i);
        const std::string field = end == std::string::npos ? "" : wanted.substr(i + 1, end - i - 1);
        static const std::set<std::string> known = {"name", "target", "filter", "seconds", "frames"};
        if (!known.count(field))
            throw UsageError(fmt::format("--name \"{}\" has an unknown field", wanted), {}, kFields);
        const auto it = s.fields.find(field);
        if (it == s.fields.end() || it->second.empty())
            throw UsageError(fmt::format("says nothing of its {}, which --name \"{}\" wants", field, wanted), s.file,
                             "Leave the field out");
        out += it->second;
        i = end;
    }
    if (out.empty() || out.find('/') != std::string::npos || out[0] == '.')
        throw UsageError(fmt::format("\"{}\" is no name of a file", out), {}, "Give another --name");
    return out;
}

/// All work is known to be possible before it begins.
class Exporting {
public:
    Exporting(const MasterExportOptions& o, const Context& context) : o_(o), context_(context) {}

    MasterExportReport run() {
        require_sense();
        gather();
        plan();
        require_room();
        report_.folder = o_.to;
        require_writable_folder(o_.to);
        remove_leftovers(o_.to);
        context_.progress.begin("export", static_cast<std::int64_t>(sources_.size() * (o_.range ? 1 : 2)));
        const LinearRange range = o_.range ? *o_.range : common_range();
        for (std::size_t i = 0; i < sources_.size(); ++i) {
            context_.workers.cancel().check();
            write(sources_[i], targets_[i], range);
            context_.progress.advance(1);
        }
        context_.progress.end();
        return std::move(report_);
    }

private:
    bool is_stretched(MasterFormat f) const { return f != MasterFormat::fits && o_.stretched.value_or(is_whole(f)); }

    void require_sense() const {
        if (o_.formats.empty()) throw UsageError("no format is asked for", {}, "Name one with --as");
        if (o_.to.empty()) throw UsageError("no folder is named", {}, "kasane export masters DIR");
        if (o_.stretched && *o_.stretched &&
            std::all_of(o_.formats.begin(), o_.formats.end(), [](auto f) { return f == MasterFormat::fits; }))
            throw UsageError("FITS files hold what was measured and are not stretched", {},
                             "Leave --stretched out, or take --as tiff-float");
        if (o_.range && !(o_.range->white > o_.range->black && std::isfinite(o_.range->white - o_.range->black)))
            throw UsageError("white has to lie above black", {}, "Give --range \"BLACK WHITE\" in ADU");
        if (o_.range && std::all_of(o_.formats.begin(), o_.formats.end(),
                                    [&](auto f) { return f == MasterFormat::fits || is_stretched(f); }))
            throw UsageError("--range is for linear pictures, and none is asked for", {},
                             "Add --linear, or leave --range out");
        if (!(o_.quality >= 1 && o_.quality <= 100)) throw UsageError("the quality of a JPEG is 1 to 100", {}, {});
        if (!(o_.stretch.background > 0.005f && o_.stretch.background <= 0.6f && o_.stretch.black_sigmas >= 0 &&
              o_.stretch.black_sigmas <= 100))
            throw UsageError("the sky is shown at 0.005 to 0.6 of white, black lies 0 to 100 sigma below", {}, {});
    }

    void gather() {
        std::vector<fs::path> files = o_.files;
        std::error_code failed;
        if (files.empty()) {
            const RunMasters run = masters_of_last_run(o_.project, "exported");
            files = run.files;
            const fs::path project = fs::weakly_canonical(fs::absolute(o_.project.folder)),
                           to = fs::weakly_canonical(fs::absolute(o_.to)), results = fs::weakly_canonical(run.output);
            const auto lies_in = [&](const fs::path& folder) {
                return to == folder || to.string().starts_with(folder.string() + "/");
            };
            if (lies_in(project) && !(lies_in(results) && results != project))
                throw UsageError("lies inside the project, where pictures would be taken for exposures", o_.to,
                                 "Name a folder elsewhere, or among the results");
        }
        for (const fs::path& file : files) {
            for (const Source& s : sources_)
                if (fs::equivalent(file, s.file, failed)) throw UsageError("is named twice", file, "Name it once");
            Source s = source_of(file);
            if (o_.filter.empty() || fold_filter(s.filter) == fold_filter(o_.filter)) sources_.push_back(std::move(s));
        }
        if (sources_.empty())
            throw UsageError(fmt::format("there is no master light of the filter {}", o_.filter), o_.to,
                             "Leave --filter out, or see 'kasane status'");
    }

    void plan() {
        std::map<std::string, int> of_ending;
        std::set<MasterFormat> once;
        for (const MasterFormat f : o_.formats)
            if (once.insert(f).second) ++of_ending[ending_of(f)];
        std::map<std::string, const Source*> names;
        std::error_code failed;
        for (const Source& s : sources_) {
            const std::string name = name_of(s, o_.name);
            std::vector<Target> mine;
            for (const MasterFormat f : once) { // which keeps the order of the formats
                const std::string which = std::string(kMasterFormatNames[static_cast<std::size_t>(f)]);
                const std::string file =
                    of_ending[ending_of(f)] > 1 ? name + "." + which + ending_of(f) : name + ending_of(f);
                const auto [other, fresh] = names.emplace(file, &s);
                if (!fresh)
                    throw UsageError(fmt::format("would be called {}, as {} would", file, other->second->file.string()),
                                     s.file, "Give --name more fields, as \"{target}-{filter}-{seconds}\"");
                mine.push_back({f, is_stretched(f), o_.to / file});
            }
            for (const Target& t : mine) {
                for (const Source& other : sources_)
                    if (fs::exists(t.file, failed) && fs::equivalent(t.file, other.file, failed))
                        throw UsageError("is an image of this call and would be written over", t.file,
                                         "Name another folder");
                require_replaceable(t.file);
            }
            targets_.push_back(std::move(mine));
        }
    }

    void require_room() const {
        for (const Source& s : sources_) {
            const std::uint64_t image = static_cast<std::uint64_t>(s.width) * static_cast<std::uint64_t>(s.height) *
                                        static_cast<std::uint64_t>(s.planes) * sizeof(float),
                                needed = 2 * image; // and a copy that is made linear or encoded
            if (needed > context_.memory.for_buffers())
                throw DataError(fmt::format("to export it takes {:.1f} GB of memory, the budget is {:.1f} GB",
                                            1e-9 * static_cast<double>(needed),
                                            1e-9 * static_cast<double>(context_.memory.bytes)),
                                s.file, "Give more with --memory");
        }
    }

    /// As they stand in the file, holes as well; of a mosaic of colours its three.
    static Image pixels_of(const Source& s) {
        if (s.mosaic) {
            const auto view = view_of_image(s.file);
            Image out = read_planes(*view);
            view->release();
            return out;
        }
        const FilePlanes file(open_frame(s.file));
        Image out = read_planes(file);
        file.release();
        return out;
    }

    /// One for all, so that they stay comparable.
    LinearRange common_range() {
        float highest = 0;
        for (const Source& s : sources_) {
            context_.workers.cancel().check();
            const Image image = pixels_of(s);
            for (const float v : image.pixels())
                if (std::isfinite(v)) highest = std::max(highest, v);
            context_.progress.advance(1);
        }
        if (highest <= 1) return {0, 1}; // of a program that counts so
        double white = 255;
        while (white < static_cast<double>(highest) && white < 1e30)
            white = 2 * white + 1;
        return {0, white};
    }

    std::string description(const Source& s, const ExportedMaster& e) const {
        std::vector<std::string> lines;
        const auto add = [&](const char* what, const char* key) {
            if (const auto text = s.header.text(key)) lines.push_back(fmt::format("{}: {}", what, *text));
        };
        add("target", "OBJECT");
        add("filter", "FILTER");
        if (const auto seconds = s.header.number("EXPTIME")) lines.push_back(fmt::format("exposure: {:g} s", *seconds));
        if (const auto frames = s.header.number("NCOMBINE")) lines.push_back(fmt::format("frames: {:g}", *frames));
        add("camera", "INSTRUME");
        add("telescope", "TELESCOP");
        lines.push_back("of: " + s.file.filename().string());
        if (!e.stretched)
            lines.push_back(fmt::format("linear: 0 is {:g} ADU, 1 is {:g} ADU", e.range.black, e.range.white));
        for (std::size_t p = 0; p < e.curves.size(); ++p)
            lines.push_back(fmt::format("stretch {}: black {:.6g}, white {:.6g}, strength {:.6g}{}", p,
                                        e.curves[p].black, e.curves[p].white, e.curves[p].strength,
                                        e.curves.size() == 3 ? ", linked" : ""));
        return fmt::format("{}", fmt::join(lines, "\n"));
    }

    void write(const Source& s, const std::vector<Target>& targets, const LinearRange& range) {
        Image image = pixels_of(s);
        ExportedMaster e;
        e.source = s.file;
        e.width = image.width(), e.height = image.height(), e.planes = image.planes();
        const auto values = static_cast<double>(image.pixels().size());
        e.no_data = static_cast<double>(std::count_if(image.pixels().begin(), image.pixels().end(),
                                                      [](float v) { return !std::isfinite(v); })) /
                    values;
        for (const Target& t : targets)
            if (t.format == MasterFormat::fits) write_fits_of(s, image, t, e);
        std::vector<double> scales;
        for (int p = 0; p < 3 && image.planes() == 3; ++p)
            if (const auto scale = s.header.number(fmt::format("CHSCALE{}", p + 1))) scales.push_back(*scale);
        if (scales.size() != 3) scales.clear();
        const std::vector<Stretch> curves = choose_stretches(image, scales, o_.stretch);
        const bool both = std::any_of(targets.begin(), targets.end(), [](const Target& t) { return t.stretched; });
        write_linear(s, image, targets, e, range, both);
        if (!both) return;
        e.stretched = true, e.curves = curves, e.range = {}, e.doubt.clear();
        e.below = share_of(image, [&](int p, float v) { return v < curves[static_cast<std::size_t>(p)].black; });
        e.beyond = show(image, curves);
        for (const Target& t : targets)
            if (t.stretched) write_picture(s, image, t, e, ToneCurve::screen);
    }

    /// Stretched in place; of three planes each brought to the contrast of green first, so that hues stay.
    double show(Image& image, std::vector<Stretch> curves) const {
        if (curves.size() == 3) {
            const Stretch green = curves[1];
            for (int p = 0; p < 3; ++p) {
                Stretch& own = curves[static_cast<std::size_t>(p)];
                const float black = own.black, factor = (green.white - green.black) / (own.white - own.black);
                for (int y = 0; y < image.height(); ++y) {
                    float* row = image.plane(p).row(y);
                    std::transform(row, row + image.width(), row, [&](float v) { return (v - black) * factor; });
                }
                own = {0, green.white - green.black, green.strength};
            }
        }
        return apply_tone(image, curves, true, context_.workers);
    }

    /// Made in a copy where the pixels are needed once more.
    void write_linear(const Source& s, Image& image, const std::vector<Target>& targets, ExportedMaster e,
                      const LinearRange& range, bool keep) {
        const auto wanted = [](const Target& t) { return !t.stretched && t.format != MasterFormat::fits; };
        if (std::none_of(targets.begin(), targets.end(), wanted)) return;
        e.range = range;
        const auto black = static_cast<float>(range.black), white = static_cast<float>(range.white);
        const double below = share_of(image, [&](int, float v) { return v < black; }),
                     beyond = share_of(image, [&](int, float v) { return v > white; });
        Image copy;
        if (keep) copy = image;
        Image& linear = keep ? copy : image;
        const double unit = range.white - range.black;
        for (float& v : linear.pixels())
            v = static_cast<float>((static_cast<double>(v) - range.black) / unit);
        const double noise = s.header.number("NOISE").value_or(0);
        for (const Target& t : targets) {
            if (!wanted(t)) continue;
            const bool whole = is_whole(t.format);
            e.below = whole ? below : 0, e.beyond = whole ? beyond : 0;
            const double step =
                unit / (t.format == MasterFormat::png_8 || t.format == MasterFormat::jpeg ? 255 : 65535);
            e.doubt = whole && noise > 0 && step > noise
                          ? fmt::format("its steps of {:.3g} ADU are coarser than the noise, {:.3g} ADU", step, noise)
                          : "";
            write_picture(s, linear, t, e, ToneCurve::linear);
        }
    }

    template <class Is>
    static double share_of(const Image& image, Is is) {
        std::int64_t count = 0;
        for (int p = 0; p < image.planes(); ++p)
            for (int y = 0; y < image.height(); ++y) {
                const float* row = image.plane(p).row(y);
                count += std::count_if(row, row + image.width(), [&](float v) { return is(p, v); });
            }
        return static_cast<double>(count) / static_cast<double>(image.pixels().size());
    }

    void write_fits_of(const Source& s, const Image& image, const Target& t, ExportedMaster e) {
        Header h = exported_header(s.header, s.ours);
        if (const auto world = s.ours ? std::nullopt : world_of_image(s.file))
            write_world(h, *world, image.width(), image.height());
        h.set("ROWORDER", "TOP-DOWN", "the first row is the upper one");
        if (s.ours) h.add_history("exported from " + s.file.filename().string());
        write_fits(t.file, {{image.plane(), h, {}, image.planes()}});
        e.file = t.file, e.format = t.format;
        report_.files.push_back(std::move(e));
    }

    void write_picture(const Source& s, const Image& shown, const Target& t, ExportedMaster e, ToneCurve curve) {
        e.file = t.file, e.format = t.format;
        const PictureNotes notes{description(s, e), colour_profile(e.planes, curve)};
        switch (t.format) {
        case MasterFormat::tiff:
            write_tiff(t.file, shown, TiffSamples::whole_16, notes);
            break;
        case MasterFormat::tiff_float:
            write_tiff(t.file, shown, TiffSamples::float_32, notes);
            break;
        case MasterFormat::png:
            write_png(t.file, shown, 16, notes);
            break;
        case MasterFormat::png_8:
            write_png(t.file, shown, 8, notes);
            break;
        case MasterFormat::jpeg:
            write_jpeg(t.file, shown, o_.quality, notes);
            break;
        case MasterFormat::fits:
            break; // by write_fits_of
        }
        report_.files.push_back(std::move(e));
    }

    const MasterExportOptions& o_;
    const Context& context_;
    std::vector<Source> sources_;
    std::vector<std::vector<Target>> targets_; ///< by source
    MasterExportReport report_;
};

} // namespace

std::optional<MasterFormat> master_format_named(std::string_view name) {
    for (std::size_t i = 0; i < kMasterFormatNames.size(); ++i)
        if (kMasterFormatNames[i] == name) return static_cast<MasterFormat>(i);
    return std::nullopt;
}

bool MasterExportReport::clean() const {
    return !files.empty() &&
           std::all_of(files.begin(), files.end(), [](const ExportedMaster& e) { return e.doubt.empty(); });
}

MasterExportReport export_masters(const MasterExportOptions& options, const Context& context) {
    return Exporting(options, context).run();
}

} // namespace kasane
