// What the review page is given.
#include <kasane/report/review.hpp>

#include <kasane/base/error.hpp>
#include <kasane/io/jpeg.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/report/page_file.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <set>

namespace kasane {

namespace {

nlohmann::json condition_json(const Condition& c) {
    static const char* references[] = {"", "median", "best"};
    return {{"measure", static_cast<int>(c.measure)},
            {"above", c.above},
            {"equal", c.or_equal},
            {"number", c.bound.number},
            {"reference", references[static_cast<int>(c.bound.reference)]},
            {"night", c.bound.of_night},
            {"spreads", c.bound.spreads}};
}

nlohmann::json limit_json(const std::string& text) {
    const Limit limit = parse_limit(text);
    nlohmann::json conditions = nlohmann::json::array();
    for (const Condition& c : limit.conditions)
        conditions.push_back(condition_json(c));
    nlohmann::json out = {{"conditions", conditions}, {"filters", limit.filters}, {"night", limit.night}};
    if (limit.ranking)
        out["ranking"] = {{"count", limit.ranking->count},
                          {"percent", limit.ranking->percent},
                          {"by", static_cast<int>(limit.ranking->by)}};
    return out;
}

/// [median, spread, best] of every measure.
nlohmann::json distribution_json(const Distributions& d, const std::string& night, bool of_night) {
    nlohmann::json out = nlohmann::json::array();
    for (int m = 0; m < kMeasures; ++m) {
        const Distribution& one = d.of(static_cast<Measure>(m), night, of_night);
        out.push_back({rounded(one.median), rounded(one.spread), rounded(one.best)});
    }
    return out;
}

/// What the exposures of each length and panel are held against.
nlohmann::json kinds_json(const StackGrade& s) {
    nlohmann::json out = nlohmann::json::array();
    int count = 1;
    for (const FrameGrade& f : s.frames)
        count = std::max(count, f.kin + 1);
    for (int kin = 0; kin < count; ++kin) {
        std::vector<const Figures*> figures;
        std::vector<std::string> nights;
        std::set<std::string> names;
        for (const FrameGrade& f : s.frames) {
            if (f.kin != kin) continue;
            names.insert(f.night);
            if (!f.measures || f.verdict.author == Author::impossible) continue;
            figures.push_back(&f.figures);
            nights.push_back(f.night);
        }
        const Distributions d(figures, nights);
        nlohmann::json by_night = nlohmann::json::object();
        for (const std::string& night : names)
            by_night[night] = distribution_json(d, night, true);
        out.push_back({{"distribution", distribution_json(d, "", false)}, {"nights", by_night}});
    }
    return out;
}

nlohmann::json frame_json(const FrameGrade& f) {
    nlohmann::json values = nlohmann::json::array(), zones = nlohmann::json::array(), streaks = nlohmann::json::array();
    for (const double v : f.figures.value)
        values.push_back(rounded(v));
    for (const Zone& z : f.shape.zones)
        zones.push_back({z.stars, rounded(z.fwhm), rounded(z.eccentricity), rounded(z.angle)});
    for (const Streak& s : f.streaks)
        streaks.push_back({rounded(s.x0), rounded(s.y0), rounded(s.x1), rounded(s.y1)});
    nlohmann::json out = {{"file", f.path},
                          {"night", f.night},
                          {"start", f.start},
                          {"time", f.time ? nlohmann::json(*f.time) : nlohmann::json(nullptr)},
                          {"filter", f.filter},
                          {"kin", f.kin},
                          {"v", values},
                          {"info", f.contribution.information},
                          {"worth", rounded(f.contribution.worth)},
                          {"seconds", f.contribution.seconds},
                          {"hindrance", f.verdict.author == Author::impossible ? f.verdict.reason : ""},
                          {"zones", zones},
                          {"streaks", streaks},
                          {"preview", !f.preview.empty()},
                          {"judged", f.rejected.has_value()},
                          {"cell", f.cell}};
    if (f.decision) out["decision"] = {{"keep", f.decision->keep}, {"note", f.decision->note}};
    if (f.measures) {
        const Point middle{0.5 * (f.measures->width - 1), 0.5 * (f.measures->height - 1)};
        if (f.to_frame) out["affine"] = f.to_frame->at(f.to_frame->unmap(middle)).coefficients();
        out["width"] = f.measures->width;
        out["height"] = f.measures->height;
    }
    if (f.preview_scale.planes > 0) {
        const PreviewScale& s = f.preview_scale;
        out["scale"] = {{"factor", s.factor}, {"planes", s.planes}, {"zero", s.zero},
                        {"soft", s.softness}, {"low", s.low},       {"high", s.high}};
    }
    return out;
}

} // namespace

nlohmann::json review_data(const GradeReport& report) {
    nlohmann::json measures = nlohmann::json::array(), limits = nlohmann::json::array(),
                   stacks = nlohmann::json::array(), drifts = nlohmann::json::array(),
                   standard = nlohmann::json::array();
    for (int m = 0; m < kMeasures; ++m) {
        const MeasureInfo& info = measure_info(static_cast<Measure>(m));
        measures.push_back({{"name", info.name},
                            {"unit", info.unit},
                            {"meaning", info.meaning},
                            {"digits", info.digits},
                            {"better", info.better}});
    }
    for (const std::string& l : report.limits)
        limits.push_back(limit_json(l));
    for (const std::string& l : standard_limits())
        standard.push_back(limit_json(l));
    for (const StackGrade& s : report.stacks) {
        nlohmann::json frames = nlohmann::json::array();
        for (const FrameGrade& f : s.frames)
            frames.push_back(frame_json(f));
        stacks.push_back({{"name", s.name},
                          {"target", s.target},
                          {"filter", s.filter},
                          {"reference", s.reference},
                          {"width", s.width},
                          {"height", s.height},
                          {"frames", frames},
                          {"kinds", kinds_json(s)}});
    }
    nlohmann::json comet = nlohmann::json::object(); // by file
    for (const CometMark& m : report.comet)
        if (!m.by_header()) comet[m.file] = {rounded(m.x), rounded(m.y)};
    for (const NightDrift& d : report.drifts)
        drifts.push_back({{"night", d.night}, {"diagnosis", d.drift.diagnosis}});
    // "." and "project/" have a name as well.
    std::error_code failed;
    const auto folder = std::filesystem::weakly_canonical(report.folder, failed);
    return {{"folder", (failed ? std::filesystem::path(report.folder) : folder).filename().string()},
            {"measures", measures},
            {"limits", limits},
            {"standard", standard},
            {"stacks", stacks},
            {"comet", comet},
            {"drifts", drifts}};
}

namespace {

/// The preview in the cache, smaller still. Bytes average well enough: they are nearly linear where the sky is.
std::string thumbnail(const std::string& file, int& factor) {
    constexpr int kLonger = 450; // pixels
    const auto reader = open_frame(file);
    factor = std::max(1, (std::max(reader->width(), reader->height()) + kLonger - 1) / kLonger);
    Raster<std::uint8_t> small(reader->width() / factor, reader->height() / factor, reader->planes());
    for (int p = 0; p < reader->planes(); ++p) {
        const Image image = read_plane(*reader, p);
        for (int y = 0; y < small.height(); ++y)
            for (int x = 0; x < small.width(); ++x) {
                float sum = 0;
                for (int j = 0; j < factor; ++j)
                    for (int i = 0; i < factor; ++i)
                        sum += image(x * factor + i, y * factor + j);
                small(x, y, p) = static_cast<std::uint8_t>(std::lround(sum / static_cast<float>(factor * factor)));
            }
    }
    return base64(encode_jpeg(small, 75));
}

} // namespace

std::string review_file(const GradedProject& project) {
    nlohmann::json data = review_data(project.report);
    data["alone"] = true;
    for (std::size_t s = 0; s < project.report.stacks.size(); ++s)
        for (std::size_t i = 0; i < project.report.stacks[s].frames.size(); ++i) {
            const FrameGrade& f = project.report.stacks[s].frames[i];
            auto& out = data["stacks"][s]["frames"][i];
            if (!f.preview.empty()) {
                int factor = 1;
                try {
                    out["image"] = thumbnail(f.preview, factor);
                    out["scale"]["factor"] = f.preview_scale.factor * factor;
                } catch (const InputError&) {
                    out["preview"] = false;
                }
            }
            if (f.measures) out["stars"] = review_stars(f, 80);
            if (f.rejected) out["rejected"] = review_rejected(f);
        }
    return page_file("review.html", data);
}

nlohmann::json star_json(const StarLook& s) {
    nlohmann::json profile = nlohmann::json::array();
    for (const double v : s.profile.value)
        profile.push_back(rounded(v, 4));
    nlohmann::json out = {{"x", std::round(10 * s.star.x) / 10},
                          {"y", std::round(10 * s.star.y) / 10},
                          {"flux", rounded(s.star.flux, 5)},
                          {"snr", rounded(s.star.flux_sigma > 0 ? s.star.flux / s.star.flux_sigma : NAN, 3)},
                          {"peak", rounded(s.profile.peak, 4)},
                          {"fwhm", rounded(s.star.fwhm, 3)},
                          {"eccentricity", rounded(s.star.eccentricity, 2)},
                          {"saturated", s.star.saturated},
                          {"step", s.profile.step},
                          {"profile", profile}};
    if (s.fit)
        out["fit"] = {{"amplitude", rounded(s.fit->amplitude, 5)},
                      {"major", rounded(s.fit->fwhm_major, 3)},
                      {"minor", rounded(s.fit->fwhm_minor, 3)},
                      {"angle", rounded(s.fit->angle, 3)},
                      {"beta", rounded(s.fit->beta, 2)},
                      {"level", rounded(s.fit->background - s.profile.background, 3)}};
    return out;
}

nlohmann::json review_stars(const FrameGrade& frame, std::size_t most) {
    nlohmann::json out = nlohmann::json::array();
    if (!frame.measures) return out;
    for (const Star& s : frame.measures->main().stars) {
        if (out.size() == most) break;
        out.push_back({std::round(10 * s.x) / 10, std::round(10 * s.y) / 10, std::round(100 * s.fwhm) / 100,
                       std::round(100 * s.eccentricity) / 100, std::round(s.angle), s.saturated});
    }
    return out;
}

nlohmann::json review_rejected(const FrameGrade& frame) {
    if (!frame.rejected) return nullptr;
    const RejectedCells& c = *frame.rejected;
    nlohmann::json runs = nlohmann::json::array();
    for (std::size_t k = 0; k < c.low.size();) {
        std::size_t end = k + 1;
        while (end < c.low.size() && c.low[end] == c.low[k] && c.high[end] == c.high[k])
            ++end;
        runs.push_back({end - k, c.low[k], c.high[k]});
        k = end;
    }
    return {{"cell", c.cell}, {"columns", c.columns}, {"rows", c.rows}, {"runs", runs}};
}

} // namespace kasane
