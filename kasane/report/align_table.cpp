#include <kasane/report/align_table.hpp>

#include <kasane/report/csv.hpp>
#include <kasane/report/tables.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

/// Worst first: what is not registered, then by the residual over what is expected.
bool worse(const AlignedFrame* a, const AlignedFrame* b) {
    const auto rank = [](const AlignedFrame* f) {
        if (!f->measured) return 1e9;
        if (!f->registered) return 1e8;
        if (f->is_reference) return -1.0;
        return f->expected > 0 ? f->rms / f->expected : f->rms;
    };
    return rank(a) > rank(b);
}

std::string clock_of(const AlignedFrame& f) {
    return f.start.size() >= 16 ? f.start.substr(11, 5) : "-";
}

/// 0, not -0.
std::string signed_text(double v, const char* format) {
    const std::string text = fmt::format(fmt::runtime(format), v);
    return text.find_first_of("123456789") == std::string::npos && text.starts_with('-') ? text.substr(1) : text;
}

std::string turn_text(double degrees, bool mirrored) {
    return signed_text(degrees, "{:.2f} deg") + (mirrored ? ", mirrored" : "");
}

std::vector<std::string> row_of(const AlignedFrame& f) {
    if (!f.registered)
        return {f.path,
                clock_of(f),
                f.measured ? "not registered" : "not measured",
                fmt::format("{}", f.stars),
                "-",
                "-",
                "-",
                "-",
                "-",
                "-"};
    return {f.path,
            clock_of(f),
            f.is_reference ? "gives the grid" : f.model,
            fmt::format("{} of {}", f.matched, f.stars),
            f.is_reference ? "-" : fmt::format("{:.3f} px", f.rms),
            f.is_reference || f.expected <= 0 ? "-" : fmt::format("{:.3f}", f.expected),
            signed_text(f.shift_x, "{:.1f}"),
            signed_text(f.shift_y, "{:.1f}"),
            turn_text(f.turn, f.mirrored),
            fmt::format("{:.5f}", f.scale)};
}

/// The model of all of them; empty where they differ.
std::string one_model(const std::vector<const AlignedFrame*>& frames) {
    std::string model;
    for (const AlignedFrame* f : frames) {
        if (!f->registered || f->is_reference) continue;
        if (!model.empty() && f->model != model) return "";
        model = f->model;
    }
    return model;
}

std::string night_text(const std::vector<const AlignedFrame*>& frames, const AlignTableOptions& o) {
    std::vector<const AlignedFrame*> order = frames;
    std::stable_sort(order.begin(), order.end(), worse);
    std::vector<std::string> heading = {"exposure", "at",      "model",   "stars", "residual",
                                        "expected", "shift x", "shift y", "turn",  "scale"};
    constexpr std::size_t kModel = 2;
    const bool same = !one_model(frames).empty(); // it is said above the table then
    const auto without_model = [same](std::vector<std::string> row, const std::string& instead) {
        if (!same) return row;
        if (!instead.empty()) row[kModel + 2] = instead;
        row.erase(row.begin() + kModel);
        return row;
    };
    Table table(without_model(heading, ""));
    std::string words;
    std::size_t shown = 0;
    const auto line = [&](const std::string& text) {
        words += fmt::format("  {}\n", wrapped(clean(text), 6, static_cast<std::size_t>(o.width)));
    };
    for (const AlignedFrame* f : order) {
        if (!f->registered) line(fmt::format("{}: {}", f->path, f->text));
        if (f->registered && !f->way.empty()) line(fmt::format("{}: {}", f->path, f->way));
        if (o.most > 0 && shown == o.most) continue;
        ++shown;
        table.add(without_model(row_of(*f), !f->registered ? "lost" : f->is_reference ? "the grid" : ""));
    }
    std::string out = table.text(o.width, {"scale", "at", "expected", "turn"});
    if (shown < order.size()) out += fmt::format("  ... and {} more (--all)\n", order.size() - shown);
    return out + words;
}

} // namespace

std::string align_text(const AlignReport& r, const AlignTableOptions& o) {
    std::string out;
    const auto line = [&](const std::string& text) {
        out += fmt::format("  {}\n", wrapped(clean(text), 6, static_cast<std::size_t>(o.width)));
    };
    int registered = 0, all = 0, through = 0;
    for (const AlignedGrid& g : r.grids) {
        out += fmt::format("{}Grid of {} ({} x {} pixels)\n", out.empty() ? "" : "\n",
                           g.reference.empty() ? "nothing" : clean(g.reference), g.width, g.height);
        if (!g.reason.empty()) line("it leads: " + g.reason);
        for (const std::string& other : g.runners_up)
            line("next to it " + other);
        for (const AlignedRig& rig : g.rigs)
            line(fmt::format("{}, {} light{}: {}", rig.name, rig.frames, rig.frames == 1 ? "" : "s",
                             rig.optics.frames > 0 ? rig.optics.text() : "nothing to tell its optics by"));
        for (const AlignedStack& s : g.stacks) {
            if (!o.filter.empty() && s.filter != o.filter) continue;
            std::map<std::string, std::vector<const AlignedFrame*>> nights;
            for (const AlignedFrame& f : s.frames) {
                if (!o.night.empty() && f.night != o.night) continue;
                nights[f.night].push_back(&f);
                ++all;
                registered += f.registered;
                through += f.registered && !f.way.empty();
            }
            for (const auto& [night, frames] : nights)
                out +=
                    fmt::format("\n{}{}\n{}", s.name, night.empty() ? "" : ", night " + night, night_text(frames, o));
        }
    }
    std::string told = fmt::format("{} of {} lights registered", registered, all);
    if (through) told += fmt::format(", {} of them not at once", through);
    told += ". Residuals are of all stars of a light, root mean square; expected: by the stars' own errors.";
    out += fmt::format("\n{}\n", wrapped(told, 0, static_cast<std::size_t>(o.width)));
    if (!r.findings.empty()) out += "\nFindings\n" + findings_text(r.findings, o.width);
    return out;
}

std::string align_text(const ImageAlignReport& r, int columns) {
    Table table({"image", "model", "stars", "residual", "expected", "shift x", "shift y", "turn", "scale", "covers"});
    std::string words;
    const auto line = [&](const std::string& text) {
        words += fmt::format("  {}\n", wrapped(clean(text), 6, static_cast<std::size_t>(columns)));
    };
    for (const AlignedImage& i : r.images) {
        const std::string name = clean(i.file.filename().string());
        if (!i.registered) {
            table.add({name, "not registered", fmt::format("{}", i.stars), "-", "-", "-", "-", "-", "-", "-"});
            line(fmt::format("{}: {}", i.file.string(), i.text));
            continue;
        }
        table.add({name, i.model, fmt::format("{} of {}", i.matched, i.stars), fmt::format("{:.3f} px", i.rms),
                   i.expected > 0 ? fmt::format("{:.3f}", i.expected) : "-", signed_text(i.shift_x, "{:.1f}"),
                   signed_text(i.shift_y, "{:.1f}"), turn_text(i.turn, i.mirrored), fmt::format("{:.5f}", i.scale),
                   i.written.empty() ? "-" : fmt::format("{:.0f} %", 100 * i.covered)});
        if (!i.way.empty()) line(fmt::format("{}: {}", i.file.string(), i.way));
        if (!i.written.empty())
            line(fmt::format("{}: written{}", i.written.string(),
                             i.world.empty() ? "" : "; position on the sky " + i.world));
    }
    return fmt::format("On the grid of {} ({} x {} pixels, {} stars)\n", clean(r.onto.string()), r.width, r.height,
                       r.stars) +
           table.text(columns, {"expected", "covers", "shift y", "shift x"}) + words +
           (r.folder.empty() ? "Nothing was written; --write DIR does.\n"
                             : "Values keep their surface brightness: PIXAREA in each header tells how much larger a "
                               "pixel is now.\n");
}

std::string align_csv(const AlignReport& r) {
    std::string out = "stack,file,night,filter,start,registered,model,stars,matched,residual,expected,order,shift_x,"
                      "shift_y,turn,scale,mirrored,how,why_not\r\n";
    for (const AlignedGrid& g : r.grids)
        for (const AlignedStack& s : g.stacks)
            for (const AlignedFrame& f : s.frames) {
                out += fmt::format("{},{},{},{},{},{}", csv_cell(s.name), csv_cell(f.path), csv_cell(f.night),
                                   csv_cell(s.filter), csv_cell(f.start), f.registered ? "yes" : "no");
                if (f.registered)
                    out += fmt::format(",{},{},{},{:.5g},{:.5g},{:.4g},{:.4f},{:.4f},{:.5f},{:.7g},{},{},\r\n", f.model,
                                       f.stars, f.matched, f.rms, f.expected, f.order, f.shift_x, f.shift_y, f.turn,
                                       f.scale, f.mirrored ? "yes" : "no", csv_cell(f.way));
                else
                    out += fmt::format(",,{},,,,,,,,,,,{}\r\n", f.stars, csv_cell(f.text));
            }
    return out;
}

} // namespace kasane
