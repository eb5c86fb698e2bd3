#include <kasane/report/compare_text.hpp>

#include <kasane/report/terminal_text.hpp>

#include <cmath>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

std::string number(double v, const char* format) {
    return std::isfinite(v) ? fmt::format(fmt::runtime(format), v) : std::string("-");
}

/// Names that tell the images apart: without their folders, where that is enough.
std::vector<std::string> names_of(const CompareReport& r) {
    std::set<std::string> short_names;
    for (const JudgedImage& i : r.images)
        short_names.insert(i.file.filename().string());
    std::vector<std::string> out;
    for (const JudgedImage& i : r.images)
        out.push_back(clean(short_names.size() == r.images.size() ? i.file.filename().string() : i.file.string()));
    return out;
}

/// A share in percent with its sign; none before a zero.
std::string percent(double share) {
    const double tenths = std::round(1000 * share);
    return tenths == 0 ? "0.0 %" : fmt::format("{:+.1f} %", tenths / 10);
}

std::string light_text(const JudgedImage& i) {
    const ImageJudgement& j = i.told;
    std::string out = fmt::format("light of a star {:.5g} +- {:.1g} of the first", j.ratio, j.ratio_error);
    if (j.steps.size() > 1) {
        out += ", by brightness";
        for (const BrightnessStep& s : j.steps)
            out += (&s == &j.steps.front() ? " (brightest first) " : ", ") + percent(s.ratio - 1);
    }
    return out + fmt::format("; {} +- {:.1g} % for a factor of ten", percent(j.slope), 100 * j.slope_error);
}

} // namespace

std::string compare_text(const CompareReport& r, int columns) {
    const auto width = static_cast<std::size_t>(columns);
    const std::vector<std::string> names = names_of(r);
    Table table({"image", "FWHM", "eccentr.", "pixel noise", "disc noise", "shared", "depth", "reaches", "light"});
    std::string words;
    const auto line = [&](const std::string& text) { words += fmt::format("  {}\n", wrapped(text, 6, width)); };
    const ImageJudgement* first = nullptr;
    for (std::size_t k = 0; k < r.images.size(); ++k) {
        const JudgedImage& i = r.images[k];
        if (!i.judged) {
            table.add({names[k], "not judged", "-", "-", "-", "-", "-", "-", "-"});
            line(fmt::format("{}: {}", names[k], clean(i.text)));
            continue;
        }
        const ImageJudgement& j = i.told;
        table.add({names[k], fmt::format("{:.2f} px", j.fwhm), number(j.eccentricity, "{:.2f}"),
                   number(j.pixel_noise, "{:.4g}"), number(j.disc_noise, "{:.4g}"), number(j.correlation, "{:.2f}"),
                   number(j.depth, "{:.4g}"), first ? number(j.deeper, "{:+.3f} mag") : "-",
                   first ? fmt::format("{:.4g}", j.ratio) : "1"});
        std::string sky = fmt::format("{} x {} pixels", i.width, i.height);
        if (first)
            sky +=
                fmt::format(", {:.4g} along one of the first, turned {:.2f} degrees{}; {} of {} stars matched to {:.3f}"
                            " px; shows {:.0f} % of the first",
                            j.scale, std::round(100 * i.turn) / 100 + 0.0, i.mirrored ? ", mirrored" : "", i.matched,
                            i.stars, i.rms, 100 * i.covered);
        sky +=
            fmt::format("; sky {:.5g} ADU, grows by {:.3g} ADU of the first from edge to edge towards {:.0f} degrees",
                        j.background, j.gradient, j.gradient_angle);
        if (first)
            sky += fmt::format("; less that of the first it grows by {} and is uneven by {}",
                               number(j.difference_gradient, "{:.3g}"), number(j.difference, "{:.3g}"));
        line(fmt::format("{}: {}", names[k], sky));
        if (first) line(fmt::format("{}: {}", names[k], light_text(i)));
        if (first && i.planes == 3)
            line(fmt::format("{}: red over green {:.4g}, blue over green {:.4g} of what the first has; single bright "
                             "stars scatter by {:.1f} %",
                             names[k], j.colour[0], j.colour[1], 100 * j.colour_scatter));
        for (const std::string& doubt : i.doubts)
            line(fmt::format("! {} {}", names[k], clean(doubt)));
        if (!first) first = &j;
    }
    std::string out = fmt::format("{} images on {} common stars; noise {}\n", r.images.size(), r.stars,
                                  r.by_account ? std::string("as they state it of themselves")
                                               : fmt::format("by the spectrum of the sky at {} places", r.places)) +
                      table.text(columns, {"shared", "eccentr.", "pixel noise", "light"}) + words;
    out +=
        wrapped("FWHM: pixels of the first. Pixel noise: of the image's own pixels, ADU. Disc noise: of the light in a "
                "disc of sky with the FWHM for its radius, ADU of the first; shared: how many times that is what "
                "pixels without common noise would have. Depth: light of a star at 5 sigma of its disc; reaches: "
                "beyond the first." +
                    std::string(r.by_account ? " Discs are those of the stars in the exposures: what combining blurs, "
                                               "it blurs of the noise as well."
                                             : ""),
                0, width) +
        "\n";
    for (const ComparisonPicture& p : r.pictures)
        out += fmt::format("  {}\n", wrapped(fmt::format("{}: {}", clean(p.file.string()), p.text), 6, width));
    return out;
}

} // namespace kasane
