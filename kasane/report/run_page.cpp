#include <kasane/report/run_page.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/hash.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/report/align_pictures.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/page_file.hpp>
#include <kasane/report/review.hpp>
#include <kasane/report/tables.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

namespace fs = std::filesystem;

namespace kasane {

using nlohmann::json;

namespace {

constexpr int kPicture = 1000, kRejected = 700, kFrame = 640; // pixels of the longer side, at most

json stars_json(const MasterLook& look) {
    json out = json::array();
    for (const StarLook& s : look.stars)
        out.push_back(star_json(s));
    return out;
}

json shape_json(const MasterLook& look) {
    json zones = json::array();
    for (const Zone& z : look.shape.zones)
        zones.push_back({{"stars", z.stars},
                         {"fwhm", rounded(z.fwhm, 4)},
                         {"eccentricity", rounded(z.eccentricity, 3)},
                         {"angle", rounded(z.angle, 3)}});
    return {{"zones", zones},
            {"finer", look.finer},
            {"tilt", rounded(look.shape.tilt, 3)},
            {"tilt_angle", rounded(look.shape.tilt_angle, 3)},
            {"curvature", rounded(look.shape.curvature, 3)}};
}

json frame_json(const FrameReport& f) {
    return {{"file", f.path},
            {"night", f.night},
            {"used", f.used},
            {"reason", f.reason},
            {"seconds", f.seconds},
            {"fwhm", rounded(f.fwhm, 3)},
            {"noise", rounded(f.noise, 3)},
            {"worth", rounded(f.worth, 3)},
            {"weight", rounded(f.weight, 3)},
            {"scale", rounded(f.scale, 4)},
            {"shift", {rounded(f.shift_x, 4), rounded(f.shift_y, 4)}},
            {"rotation", rounded(f.rotation, 4)},
            {"rms", rounded(f.rms, 3)},
            {"low", rounded(f.rejected_low, 3)},
            {"high", rounded(f.rejected_high, 3)},
            {"trails", rounded(f.under_streaks, 3)},
            {"dark", f.dark},
            {"flat", f.flat},
            {"by_hand", f.by_hand}};
}

json stack_json(const StackReport& s) {
    json frames = json::array(), trials = json::array(), weights = json::array();
    for (const FrameReport& f : s.frames)
        frames.push_back(frame_json(f));
    for (const RejectionReport& r : s.rejection_trials)
        trials.push_back({{"method", r.method},
                          {"text", r.text},
                          {"loss", rounded(r.loss, 3)},
                          {"left", rounded(r.left, 3)},
                          {"left_low", rounded(r.left_low, 3)},
                          {"cores", rounded(r.cores, 3)},
                          {"chosen", r.chosen}});
    for (const WeightCost& w : s.weight_costs)
        weights.push_back({{"weights", w.weights},
                           {"noise", rounded(w.noise, 4)},
                           {"fwhm", rounded(w.fwhm, 4)},
                           {"chosen", w.weights == s.weights}});
    return {{"name", s.name},
            {"target", s.target},
            {"filter", s.filter},
            {"file", s.file},
            {"failure", s.failure},
            {"used", s.used},
            {"dropped", s.dropped},
            {"seconds", s.seconds_total},
            {"effective", rounded(s.seconds_effective)},
            {"noise", rounded(s.noise, 4)},
            {"expected_noise", rounded(s.expected_noise, 4)},
            {"fwhm", rounded(s.fwhm, 4)},
            {"eccentricity", rounded(s.eccentricity, 3)},
            {"limiting_flux", rounded(limiting_flux(s.area_noise, s.fwhm), 4)},
            {"limiting_magnitude", rounded(limiting_magnitude(s.area_noise, s.fwhm, s.zero_point), 4)},
            {"low", rounded(s.rejected_low, 3)},
            {"high", rounded(s.rejected_high, 3)},
            {"trails", rounded(s.under_streaks, 3)},
            {"cores",
             {rounded(s.core_rejected_at_first, 3), rounded(s.core_rejected, 3), rounded(s.rejected_elsewhere, 3)}},
            {"reference", s.reference},
            {"reference_reason", s.reference_reason},
            {"runners_up", s.runners_up},
            {"optics", s.optics},
            {"former", {{"used", s.former.used}, {"seconds", s.former.seconds}}},
            {"details", stack_lines(s)},
            {"growth", growth_json(s)},
            {"trials", trials},
            {"weights", weights},
            {"frames", frames}};
}

/// A PNG of the results as an address; null where it cannot be read.
json picture_json(const fs::path& file, int most) {
    json out;
    (void)attempt([&] {
        const auto reader = open_frame(file);
        Raster<std::uint8_t> pixels(reader->width(), reader->height(), reader->planes());
        for (int p = 0; p < reader->planes(); ++p) {
            const Image plane = read_plane(*reader, p);
            std::transform(plane.pixels().begin(), plane.pixels().end(), pixels.plane(p).data,
                           [](float v) { return static_cast<std::uint8_t>(std::clamp(v, 0.0f, 255.0f)); });
        }
        int factor = 1;
        const std::string address = jpeg_address(pixels, most, factor);
        out = {{"address", address}, {"width", pixels.width() / factor}, {"height", pixels.height() / factor}};
    });
    return out;
}

/// Linear, the peak white, no light and less black.
std::string stamp_address(const StarStamp& stamp) {
    if (stamp.pixels.empty()) return {};
    Raster<std::uint8_t> grey(stamp.pixels.width(), stamp.pixels.height());
    std::transform(stamp.pixels.pixels().begin(), stamp.pixels.pixels().end(), grey.pixels().begin(),
                   [](float v) { return static_cast<std::uint8_t>(std::lround(255 * std::clamp(v, 0.0f, 1.0f))); });
    int factor = 1;
    constexpr int kQuality = 92;
    return jpeg_address(grey, grey.width(), factor, kQuality);
}

json findings_json(const RunReport& r) {
    std::vector<const Finding*> order;
    for (const Finding& f : r.findings)
        order.push_back(&f);
    std::stable_sort(order.begin(), order.end(),
                     [](const Finding* a, const Finding* b) { return a->level > b->level; });
    json out = json::array();
    for (const Finding* f : order)
        out.push_back(to_json(*f));
    return out;
}

json masters_json(const RunReport& r) {
    json out = json::array();
    for (const MasterReport& m : r.masters)
        out.push_back({{"name", m.name},
                       {"role", m.role},
                       {"frames", m.frames},
                       {"level", rounded(m.level)},
                       {"frame_noise", rounded(m.frame_noise, 3)},
                       {"noise", rounded(m.noise, 3)},
                       {"combination", m.combination},
                       {"offset", m.offset},
                       {"doubts", m.doubts}});
    return out;
}

json files_json(const std::vector<FileGroup>& groups) {
    json out = json::array();
    for (const FileGroup& g : groups)
        out.push_back({{"folder", g.folder}, {"role", g.role}, {"how", g.how}, {"files", g.files}});
    return out;
}

} // namespace

json result_json(const ProjectResult& result) {
    json stacks = json::array();
    for (const StackReport& s : result.run.stacks)
        stacks.push_back(stack_json(s));
    for (json& s : stacks)
        for (const MasterLook& look : result.masters)
            if (look.stack == s["name"]) {
                s["width"] = look.width, s["height"] = look.height, s["stars"] = look.count;
                s["trouble"] = look.trouble;
                s["shape"] = shape_json(look);
                s["profiles"] = stars_json(look);
            }
    json composites = json::array();
    for (const CompositeReport& c : result.run.composites)
        composites.push_back({{"name", c.name}, {"kind", c.kind}, {"text", c.text}, {"noise", rounded(c.noise, 4)}});
    std::error_code failed;
    const fs::path folder = fs::weakly_canonical(result.run.folder, failed);
    return {{"folder", (failed ? fs::path(result.run.folder) : folder).filename().string()},
            {"made_by", kCreator},
            {"stacks", stacks},
            {"composites", composites},
            {"masters", masters_json(result.run)},
            {"findings", findings_json(result.run)},
            {"files", files_json(result.files)},
            {"stale", result.stale},
            {"left_out", result.left_out}};
}

namespace {

/// What a page of a run is known by: all that it shows of what the run told.
std::string page_key(const RunReport& run) {
    return digest(json_text(result_json({.run = run})));
}

constexpr std::string_view kBegin = "<!doctype html>\n", kKey = "<!-- of the run ", kKeyEnd = " -->\n";

} // namespace

fs::path page_of(const RunReport& run) {
    return fs::path(run.output) / "report.html";
}

bool has_page(const RunReport& run) {
    std::ifstream in(page_of(run), std::ios::binary);
    const std::string wanted = fmt::format("{}{}{}{}", kBegin, kKey, page_key(run), kKeyEnd);
    std::string begin(wanted.size(), 0);
    in.read(begin.data(), static_cast<std::streamsize>(begin.size()));
    return in && begin == wanted;
}

std::string run_page(const ProjectResult& result) {
    json data = result_json(result);
    bool whole = result.left_out.empty() && result.stale.empty();
    for (const MasterLook& look : result.masters)
        whole = whole && look.trouble.empty();
    const fs::path output(result.run.output);
    for (std::size_t k = 0; k < result.run.stacks.size(); ++k) {
        const StackReport& s = result.run.stacks[k];
        json& out = data["stacks"][k];
        if (s.file.empty()) continue;
        out["picture"] = picture_json(output / s.preview, kPicture);
        out["rejected"] = picture_json(output / s.rejection_picture, kRejected);
        whole = whole && !out["picture"].is_null() && !out["rejected"].is_null();
        if (!s.former.picture.empty()) out["before"] = picture_json(output / s.former.picture, kPicture);
        if (!s.comet.preview.empty()) out["comet"] = picture_json(output / s.comet.preview, kRejected);
        json looks = json::array(), stamps = json::array();
        for (const FrameLook& f : result.frames)
            if (f.stack == s.name) {
                int factor = 1;
                const std::string address = jpeg_address(f.pixels, kFrame, factor);
                looks.push_back({{"what", f.what}, {"file", f.file}, {"address", address}});
            }
        for (const MasterLook& look : result.masters)
            if (look.stack == s.name)
                for (const StarStamp& stamp : look.mean_stars)
                    stamps.push_back({{"address", stamp_address(stamp)}, {"stars", stamp.stars}});
        out["looks"] = looks;
        out["stamps"] = stamps;
    }
    json drawings = json::array();
    for (const NamedPicture& p : align_pictures(result.registration))
        drawings.push_back("data:image/svg+xml;base64," + base64(p.svg));
    data["drawings"] = drawings;
    std::string page = page_file("report.html", data);
    if (whole && page.starts_with(kBegin)) // else the next run tries again
        page.insert(kBegin.size(), fmt::format("{}{}{}", kKey, page_key(result.run), kKeyEnd));
    return page;
}

fs::path write_run_page(const ProjectResult& result) {
    const fs::path file = page_of(result.run);
    write_text_safely(file, run_page(result));
    return file;
}

} // namespace kasane
