#include <kasane/report/align_pictures.hpp>

#include <kasane/base/output_file.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/report/align_table.hpp>
#include <kasane/report/terminal_text.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <set>

namespace kasane {

namespace {

constexpr const char* kInk = "#23262b";
constexpr const char* kFaint = "#7c7f86";
constexpr const char* kLine = "#d9d4c8";
constexpr const char* kPanel = "#fffdf8";
constexpr const char* kArrow = "#1f6f9c";
constexpr const char* kLost = "#c4660a";
/// Of the nights, in order; apart in lightness too.
constexpr std::array<const char*, 6> kNights = {"#1f6f9c", "#c4660a", "#6a3fa0", "#2f7d4f", "#a03a4f", "#6b6f76"};

std::string escaped_lines(const std::string& text) {
    std::string out;
    for (const char c : text)
        switch (c) {
        case '<':
            out += "&lt;";
            break;
        case '>':
            out += "&gt;";
            break;
        case '&':
            out += "&amp;";
            break;
        case '"':
            out += "&quot;";
            break;
        default:
            out += c;
        }
    return out;
}

std::string escaped(const std::string& text) {
    return escaped_lines(clean(text));
}

std::string text_at(double x, double y, const std::string& text, const char* colour = kInk, int size = 12) {
    return fmt::format("<text x=\"{:.1f}\" y=\"{:.1f}\" fill=\"{}\" font-size=\"{}\">{}</text>\n", x, y, colour, size,
                       escaped(text));
}

/// A rectangle of the drawing that shows a rectangle of pixels.
struct Window {
    double left = 0, top = 0, width = 0, height = 0; ///< of the drawing
    double x0 = 0, y0 = 0, scale = 1;                ///< pixels at its corner; drawing units a pixel
    double x(double px) const { return left + (px - x0) * scale; }
    double y(double py) const { return top + (py - y0) * scale; }

    static Window showing(double left, double top, double most_width, double most_height, const Bounds& b) {
        const double w = std::max(1.0, b.right - b.left), h = std::max(1.0, b.bottom - b.top);
        const double scale = std::min(most_width / w, most_height / h);
        return {left, top, w * scale, h * scale, b.left, b.top, scale};
    }
    std::string frame() const {
        return fmt::format("<rect x=\"{:.1f}\" y=\"{:.1f}\" width=\"{:.1f}\" height=\"{:.1f}\" fill=\"{}\" "
                           "stroke=\"{}\"/>\n",
                           left, top, width, height, kPanel, kLine);
    }
};

std::string arrow(double x, double y, double dx, double dy, const char* colour, double opacity = 1) {
    const double length = std::hypot(dx, dy);
    std::string out = fmt::format("<path d=\"M{:.1f} {:.1f}l{:.1f} {:.1f}", x, y, dx, dy);
    if (length > 3) { // a head
        const double ux = dx / length, uy = dy / length, head = std::min(5.0, 0.4 * length);
        out += fmt::format("m{:.1f} {:.1f}l{:.1f} {:.1f}l{:.1f} {:.1f}", -head * (ux - 0.5 * uy),
                           -head * (uy + 0.5 * ux), head * (ux - 0.5 * uy), head * (uy + 0.5 * ux),
                           -head * (ux + 0.5 * uy), -head * (uy - 0.5 * ux));
    }
    return out + fmt::format("\" stroke=\"{}\" stroke-opacity=\"{:.2f}\" fill=\"none\"/>\n", colour, opacity);
}

/// The nearest of 1, 2, 5, 10, ... below.
double round_down(double v) {
    if (!(v > 0) || !std::isfinite(v)) return 1;
    const double decade = std::pow(10, std::floor(std::log10(v)));
    return decade * (v >= 5 * decade ? 5 : v >= 2 * decade ? 2 : 1);
}

struct Arrow {
    Point at;
    double dx = 0, dy = 0;
    double error = 0;
};

/// Arrows at places of a frame, all magnified alike, with a bar that says how much.
std::string arrows_panel(const Window& w, const std::vector<Arrow>& arrows, double reach, const char* unit) {
    std::vector<double> lengths;
    for (const Arrow& a : arrows)
        lengths.push_back(std::hypot(a.dx, a.dy));
    std::sort(lengths.begin(), lengths.end());
    const double longest = lengths.empty() ? 0 : lengths[lengths.size() * 95 / 100];
    if (!(longest > 0)) return "";
    const double units = round_down(reach / longest); // of the drawing for a pixel
    std::string out;
    for (const Arrow& a : arrows) {
        if (a.error > 0)
            out += fmt::format("<circle cx=\"{:.1f}\" cy=\"{:.1f}\" r=\"{:.1f}\" fill=\"{}\" fill-opacity=\"0.6\"/>\n",
                               w.x(a.at.x), w.y(a.at.y), std::min(a.error * units, 2 * reach), kLine);
        out += arrow(w.x(a.at.x), w.y(a.at.y), a.dx * units, a.dy * units, kArrow);
    }
    const double bar = round_down(60 / units); // pixels
    const double y = w.top + w.height + 16;
    out += fmt::format("<path d=\"M{:.1f} {:.1f}h{:.1f}\" stroke=\"{}\" stroke-width=\"2\"/>\n", w.left, y - 4,
                       bar * units, kInk);
    out += text_at(w.left + bar * units + 6, y, fmt::format("{:g} px{}", bar, unit), kFaint);
    return out;
}

std::string residual_panel(const AlignedRig& rig, double left, double top, double width, double height) {
    const Window w = Window::showing(left, top + 22, width, height, {0, 0, double(rig.width), double(rig.height)});
    std::string out = text_at(left, top + 12, "What the stars leave, mean by place") + w.frame();
    std::vector<Arrow> arrows;
    double squares = 0, expected = 0;
    for (const Residual& r : rig.field) {
        arrows.push_back({r.at, r.x, r.y, r.expected});
        squares += r.x * r.x + r.y * r.y;
        expected += r.expected * r.expected;
    }
    if (arrows.empty()) return out + text_at(left + 8, w.top + 20, "too few stars to say", kFaint);
    out += arrows_panel(w, arrows, 20, "; discs: what chance makes");
    const double n = static_cast<double>(arrows.size());
    return out + text_at(left, w.top + w.height + 34,
                         fmt::format("{:.3f} px, by the stars' errors {:.3f} px", std::sqrt(squares / n),
                                     std::sqrt(expected / n)),
                         kFaint);
}

std::string lens_panel(const AlignedRig& rig, double left, double top, double width, double height) {
    const Window w = Window::showing(left, top + 22, width, height, {0, 0, double(rig.width), double(rig.height)});
    std::string out = text_at(left, top + 12, "What the lens does") + w.frame();
    if (!rig.optics.lens)
        return out +
               text_at(left + 8, w.top + 20, rig.optics.frames > 0 ? "no distortion that shows" : "not known", kFaint);
    std::vector<Arrow> arrows;
    constexpr int kAlong = 13;
    const double step = static_cast<double>(std::max(rig.width, rig.height)) / kAlong;
    for (double y = 0.5 * step; y < rig.height; y += step)
        for (double x = 0.5 * step; x < rig.width; x += step) {
            const Point seen = rig.optics.lens->distort({x, y});
            if (std::isfinite(seen.x)) arrows.push_back({{x, y}, seen.x - x, seen.y - y, 0});
        }
    out += arrows_panel(w, arrows, 24, "");
    return out + text_at(left, w.top + w.height + 34,
                         fmt::format("{:.2f} % at the corner, solved from {} lights", 100 * rig.optics.corner,
                                     rig.optics.frames),
                         kFaint);
}

using Frames = std::vector<const AlignedFrame*>;

std::string outlines_panel(const AlignedGrid& grid, const Frames& frames, double left, double top, double width,
                           double height) {
    Bounds b{0, 0, double(grid.width), double(grid.height)};
    std::map<std::string, std::size_t> nights;
    for (const AlignedFrame* f : frames) {
        nights.emplace(f->night, 0);
        for (const Point& p : f->outline) {
            b.left = std::min(b.left, p.x), b.right = std::max(b.right, p.x);
            b.top = std::min(b.top, p.y), b.bottom = std::max(b.bottom, p.y);
        }
    }
    std::size_t k = 0;
    for (auto& [night, place] : nights)
        place = k++ % kNights.size();
    const Window w = Window::showing(left, top + 22, width, height, b);
    std::string out = text_at(left, top + 12, "Where the frames lie on the grid") + w.frame();
    const double opacity = std::clamp(8.0 / static_cast<double>(frames.size()), 0.12, 0.8);
    int lost = 0;
    for (const AlignedFrame* f : frames) {
        lost += !f->registered;
        if (f->outline.empty()) continue;
        std::string path;
        for (const Point& p : f->outline)
            path += fmt::format("{}{:.1f} {:.1f}", path.empty() ? "M" : "L", w.x(p.x), w.y(p.y));
        const char* colour = kNights[nights[f->night]];
        out += fmt::format("<path d=\"{}Z\" fill=\"none\" stroke=\"{}\" stroke-opacity=\"{:.2f}\"><title>{}</title>"
                           "</path>\n",
                           path, colour, opacity, escaped(f->path));
        out += fmt::format("<circle cx=\"{:.1f}\" cy=\"{:.1f}\" r=\"2.5\" fill=\"{}\" fill-opacity=\"{:.2f}\"/>\n",
                           w.x(f->outline.front().x), w.y(f->outline.front().y), colour, opacity);
    }
    out += fmt::format("<rect x=\"{:.1f}\" y=\"{:.1f}\" width=\"{:.1f}\" height=\"{:.1f}\" fill=\"none\" stroke=\"{}\" "
                       "stroke-width=\"1.6\"/>\n",
                       w.x(-0.5), w.y(-0.5), grid.width * w.scale, grid.height * w.scale, kInk);
    double x = left;
    const double y = w.top + w.height + 16;
    std::size_t shown = 0;
    for (const auto& [night, place] : nights) {
        if (++shown > 4) break;
        out += text_at(x, y, night.empty() ? "no night" : night, kNights[place]);
        x += 78;
    }
    if (nights.size() > shown) out += text_at(x, y, "...", kFaint);
    std::string told = "dots: each frame's first pixel; dark: the grid";
    if (lost) told += fmt::format("; {} not registered", lost);
    return out + text_at(left, y + 18, told, lost ? kLost : kFaint);
}

std::string begin(double width, double height, const std::string& title) {
    return fmt::format("<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0:.0f}\" height=\"{1:.0f}\" "
                       "viewBox=\"0 0 {0:.0f} {1:.0f}\" font-family=\"Liberation Sans, Arial, sans-serif\">"
                       "<title>Kasane: {2}</title>\n<rect width=\"100%\" height=\"100%\" fill=\"#f4f1ea\"/>\n",
                       width, height, escaped(title));
}

std::string rig_picture(const AlignedGrid& grid, const AlignedRig& rig) {
    Frames frames;
    for (const AlignedStack& s : grid.stacks)
        for (const AlignedFrame& f : s.frames)
            if (f.measured && f.rig == rig.key) frames.push_back(&f);
    constexpr double kWidth = 1240, kPanelWidth = 392, kPanelHeight = 330, kTop = 56, kBottom = 64, kMargin = 16;
    std::string out = begin(kWidth, kTop + kPanelHeight + kBottom, rig.name);
    out += text_at(kMargin, 22,
                   fmt::format("{}: {} light{} on the grid of {}", rig.name, rig.frames, rig.frames == 1 ? "" : "s",
                               grid.reference),
                   kInk, 15);
    out += text_at(kMargin, 42, rig.optics.frames > 0 ? rig.optics.text() : "nothing to tell its optics by", kFaint);
    out += residual_panel(rig, kMargin, kTop, kPanelWidth, kPanelHeight - 22);
    out += lens_panel(rig, kMargin + kPanelWidth + 16, kTop, kPanelWidth, kPanelHeight - 22);
    out += outlines_panel(grid, frames, kMargin + 2 * (kPanelWidth + 16), kTop, kPanelWidth, kPanelHeight - 22);
    return out + "</svg>\n";
}

std::string star_map(const std::string& title, const std::vector<Point>& places, int width, int height, double left) {
    const Window w = Window::showing(left, 62, 480, 330, {0, 0, double(width), double(height)});
    std::string out = text_at(left, 54, title) + w.frame();
    for (std::size_t i = 0; i < places.size(); ++i) // larger: brighter
        out += fmt::format("<circle cx=\"{:.1f}\" cy=\"{:.1f}\" r=\"{:.1f}\" fill=\"{}\"/>\n", w.x(places[i].x),
                           w.y(places[i].y), 4.5 / std::pow(1 + 0.15 * static_cast<double>(i), 0.45), kInk);
    if (places.empty()) out += text_at(left + 8, 84, "no stars were found", kLost);
    return out;
}

std::string lost_picture(const AlignedGrid& grid, const AlignedFrame& f) {
    std::string out = begin(1020, 430, f.path);
    out += text_at(16, 22, f.path + " could not be registered", kInk, 15);
    out += text_at(16, 38, f.text, kLost);
    out += star_map(fmt::format("the {} brightest of {} stars here", f.places.size(), f.stars), f.places, f.width,
                    f.height, 16);
    out += star_map(fmt::format("the {} brightest of the reference, {}", grid.reference_places.size(), grid.reference),
                    grid.reference_places, grid.width, grid.height, 512);
    return out + "</svg>\n";
}

constexpr std::size_t kMostLost = 24;

template <class F>
void for_each_picture(const AlignReport& report, F f) {
    for (const AlignedGrid& g : report.grids) {
        for (const AlignedRig& rig : g.rigs)
            f(g, "rig " + rig.name, rig_picture(g, rig));
        std::size_t lost = 0;
        for (const AlignedStack& s : g.stacks)
            for (const AlignedFrame& frame : s.frames)
                if (frame.measured && !frame.registered && lost++ < kMostLost)
                    f(g, "lost " + frame.path, lost_picture(g, frame));
    }
}

} // namespace

std::vector<NamedPicture> align_pictures(const AlignReport& report) {
    std::vector<NamedPicture> out;
    std::set<std::string> taken;
    for_each_picture(report, [&](const AlignedGrid& g, const std::string& what, std::string svg) {
        std::string name = what;
        std::replace(name.begin(), name.end(), '/', '-');
        name = file_safe((report.grids.size() > 1 ? g.name + " " : "") + name);
        for (int k = 2; !taken.insert(name).second; ++k)
            name = fmt::format("{}-{}", name, k);
        out.push_back({name, std::move(svg)});
    });
    return out;
}

std::string align_page(const AlignReport& report) {
    std::string out = fmt::format(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\">\n{} how {} was registered</title>\n"
        "<style>body {{ background: #f4f1ea; color: {}; font: 13px/1.4 \"Liberation Sans\", Arial, sans-serif; margin: "
        "16px; }} pre {{ font: 12px/1.35 \"DejaVu Sans Mono\", monospace; overflow-x: auto; }} svg {{ max-width: 100%; "
        "height: auto; display: block; margin: 8px 0 20px; }}</style></head>\n<body>\n<h1>How {} was registered</h1>\n",
        kPageMark, escaped(report.folder), kInk, escaped(report.folder));
    for_each_picture(report, [&](const AlignedGrid&, const std::string&, const std::string& svg) { out += svg; });
    constexpr int kColumns = 150;
    return out + "<pre>" + escaped_lines(align_text(report, {.width = kColumns})) + "</pre>\n</body></html>\n";
}

} // namespace kasane
