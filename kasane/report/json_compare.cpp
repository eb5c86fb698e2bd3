#include <kasane/report/json.hpp>

#include <cmath>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

/// JSON has no NaN.
nlohmann::json known(double v) {
    return std::isfinite(v) ? nlohmann::json(v) : nlohmann::json(nullptr);
}

nlohmann::json judgement_json(const ImageJudgement& j) {
    nlohmann::json steps = nlohmann::json::array();
    for (const BrightnessStep& s : j.steps)
        steps.push_back({{"flux", s.flux}, {"ratio", s.ratio}, {"error", s.error}, {"stars", s.stars}});
    return {{"scale", j.scale},
            {"fwhm", known(j.fwhm)},
            {"own_fwhm", known(j.own_fwhm)},
            {"eccentricity", known(j.eccentricity)},
            {"pixel_noise", known(j.pixel_noise)},
            {"disc_noise", known(j.disc_noise)},
            {"correlation", known(j.correlation)},
            {"disc_share", known(j.disc_share)},
            {"depth", known(j.depth)},
            {"deeper", known(j.deeper)},
            {"ratio", known(j.ratio)},
            {"ratio_error", known(j.ratio_error)},
            {"slope", known(j.slope)},
            {"slope_error", known(j.slope_error)},
            {"scatter", known(j.scatter)},
            {"by_brightness", steps},
            {"red_over_green", known(j.colour[0])},
            {"blue_over_green", known(j.colour[1])},
            {"colour_scatter", known(j.colour_scatter)},
            {"background", known(j.background)},
            {"gradient", known(j.gradient)},
            {"gradient_angle", known(j.gradient_angle)},
            {"difference_gradient", known(j.difference_gradient)},
            {"difference", known(j.difference)}};
}

} // namespace

nlohmann::json to_json(const CompareReport& r) {
    nlohmann::json images = nlohmann::json::array(), pictures = nlohmann::json::array();
    for (const JudgedImage& i : r.images) {
        nlohmann::json out = {{"file", i.file.string()}, {"judged", i.judged}, {"stars", i.stars}};
        if (i.judged)
            out.update({{"width", i.width},
                        {"height", i.height},
                        {"planes", i.planes},
                        {"matched", i.matched},
                        {"residual", i.rms},
                        {"turn", i.turn},
                        {"mirrored", i.mirrored},
                        {"covered", i.covered},
                        {"no_data", i.no_data},
                        {"told", judgement_json(i.told)},
                        {"doubts", i.doubts}});
        else
            out["why_not"] = i.text;
        images.push_back(std::move(out));
    }
    for (const ComparisonPicture& p : r.pictures)
        pictures.push_back({{"file", p.file.string()}, {"shows", p.text}});
    return {{"images", images},     {"stars", r.stars},
            {"places", r.places},   {"noise_by", r.by_account ? "their own account" : "spectrum of the sky"},
            {"pictures", pictures}, {"time", r.time}};
}

} // namespace kasane
