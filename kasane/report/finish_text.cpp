#include <kasane/report/finish_text.hpp>

#include <kasane/report/terminal_text.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

std::string gradient_text(const FinishedPart& p) {
    if (p.gradient.empty()) return "nothing of its gradient is known; it stays";
    return fmt::format("{}, {:.3g} ADU from end to end ({:.2g} times the noise of a pixel), {}; sky in {:.0f} % of the "
                       "places, which scatter by {:.2g} ADU about it ({:.2g} by their noise)",
                       p.gradient, p.size, p.noise > 0 ? p.size / p.noise : 0.0,
                       p.taken_off ? "taken off" : "left as it is", 100 * p.share, p.left, p.expected);
}

} // namespace

std::string finish_text(const FinishReport& r, int columns) {
    const auto width = static_cast<std::size_t>(columns);
    const bool any = std::any_of(r.images.begin(), r.images.end(), [](const auto& i) { return i.failure.empty(); });
    std::string out = r.images.empty() ? std::string()
                      : any            ? fmt::format("Finished in {}\n", clean(r.folder.string()))
                                       : "Nothing could be finished\n";
    for (const FinishedImage& i : r.images) {
        out += fmt::format("\n{}{}\n", clean(i.name),
                           i.failure.empty() ? fmt::format("  {} x {} pixels, {}", i.width, i.height,
                                                           i.planes == 3 ? "in colour" : "one plane")
                                             : "");
        const auto line = [&](const char* what, const std::string& text) {
            out += fmt::format("  {:<11} {}\n", what, wrapped(clean(text), 14, width - 14));
        };
        if (!i.failure.empty()) {
            line("not made", i.failure);
            continue;
        }
        for (const FinishedPart& p : i.parts)
            line(&p == &i.parts.front() ? "background" : "",
                 (i.parts.size() > 1 ? p.name + ": " : "") + gradient_text(p));
        bool first = true;
        for (const FinishedPart& p : i.parts)
            if (p.sharpened) {
                line(first ? "sharpened" : "",
                     (i.parts.size() > 1 ? p.name + ": " : "") + sharpening_text(*p.sharpened));
                first = false;
            }
        if (!i.palette.empty()) line("colours", i.palette);
        if (!i.white.empty())
            line("white", fmt::format("{}: red times {:.4g}, green {:.4g}, blue {:.4g}", i.white, i.factors[0],
                                      i.factors[1], i.factors[2]));
        if (i.luminance)
            line("luminance",
                 fmt::format(
                     "{} times {:.4g}, with {:.0f} % of the weight: noise of brightness {:.3g} instead of {:.3g} ADU",
                     i.luminance_name, i.luminance->factor, 100 * i.luminance->weight, i.luminance->noise,
                     i.luminance->noise_before));
        line("noise", i.planes == 3
                          ? fmt::format("red {:.3g}, green {:.3g}, blue {:.3g} ADU", i.noise[0], i.noise[1], i.noise[2])
                          : fmt::format("{:.3g} ADU", i.noise[0]));
        if (!i.shape.empty()) line("geometry", i.shape);
        line("stretch", fmt::format("black {:.5g} ADU, white {:.5g} ADU; {:.2g} % of the pixels lie beyond white",
                                    i.curves[i.curves.size() / 2].black, i.curves[i.curves.size() / 2].white,
                                    100 * i.beyond_white));
        line("files", fmt::format("{} (linear), {} (16 bits, stretched), {}", i.linear.filename().string(),
                                  i.shown.filename().string(), i.preview.filename().string()));
        for (const std::string& doubt : i.doubts)
            line("DOUBTFUL", doubt);
    }
    for (const std::string& note : r.notes)
        out += fmt::format("\n{}\n", wrapped("Note: " + clean(note), 2, width));
    return out;
}

} // namespace kasane
