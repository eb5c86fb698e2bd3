#include <kasane/report/json.hpp>

#include <nlohmann/json.hpp>

namespace kasane {

nlohmann::json to_json(const FinishReport& r) {
    nlohmann::json images = nlohmann::json::array();
    for (const FinishedImage& i : r.images) {
        if (!i.failure.empty()) {
            images.push_back({{"name", i.name}, {"why_not", i.failure}});
            continue;
        }
        nlohmann::json parts = nlohmann::json::array(), curves = nlohmann::json::array(),
                       noise = nlohmann::json::array();
        for (const FinishedPart& p : i.parts) {
            parts.push_back({{"name", p.name},
                             {"file", p.file.string()},
                             {"noise", p.noise},
                             {"sky", p.sky},
                             {"gradient", p.gradient},
                             {"gradient_size", p.size},
                             {"gradient_taken_off", p.taken_off},
                             {"sky_share", p.share},
                             {"sky_scatter", p.left},
                             {"sky_scatter_expected", p.expected},
                             {"picture", p.picture.string()}});
            if (p.sharpened)
                parts.back()["sharpened"] = {{"fwhm_before", p.sharpened->how.before},
                                             {"fwhm_wanted", p.sharpened->how.target},
                                             {"fwhm", p.sharpened->fwhm},
                                             {"steps", p.sharpened->how.iterations},
                                             {"settled", p.sharpened->how.settled},
                                             {"left", p.sharpened->how.left},
                                             {"noise_factor", p.sharpened->noise},
                                             {"stars", p.sharpened->stars},
                                             {"degree", p.sharpened->degree},
                                             {"flat_tops", p.sharpened->how.kept},
                                             {"picture", p.sharpened->picture.string()}};
        }
        for (const Stretch& s : i.curves)
            curves.push_back({{"black", s.black}, {"white", s.white}, {"strength", s.strength}});
        for (int p = 0; p < i.planes; ++p)
            noise.push_back(i.noise[static_cast<std::size_t>(p)]);
        nlohmann::json out = {{"name", i.name},
                              {"width", i.width},
                              {"height", i.height},
                              {"planes", i.planes},
                              {"parts", parts},
                              {"noise", noise},
                              {"stretch", curves},
                              {"beyond_white", i.beyond_white},
                              {"linear", i.linear.string()},
                              {"stretched", i.shown.string()},
                              {"preview", i.preview.string()},
                              {"doubts", i.doubts}};
        if (!i.palette.empty()) out["palette"] = i.palette;
        if (!i.white.empty()) out["white"] = {{"by", i.white}, {"factors", i.factors}};
        if (i.luminance)
            out["luminance"] = {{"name", i.luminance_name},
                                {"factor", i.luminance->factor},
                                {"weight", i.luminance->weight},
                                {"noise", i.luminance->noise},
                                {"noise_before", i.luminance->noise_before}};
        if (!i.shape.empty()) out["geometry"] = i.shape;
        images.push_back(std::move(out));
    }
    return {{"folder", r.folder.string()}, {"images", images}, {"notes", r.notes}, {"time", r.time}};
}

} // namespace kasane
