#include <kasane/report/json.hpp>
#include <kasane/report/tables.hpp>

#include <kasane/base/output_file.hpp>
#include <kasane/stages/lengths.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

std::string share(double s) {
    return fmt::format("{:.2f} %", 100 * s);
}

} // namespace

std::string findings_text(const std::vector<Finding>& findings, int columns) {
    std::string out;
    for (const Finding& f : findings) {
        std::string head;
        if (!f.files.empty() && !f.files.front().empty()) {
            head = f.files.front();
            if (f.files.size() > 1) head += fmt::format(" and {} more", f.files.size() - 1);
            head += ": ";
        }
        std::string body = head + f.text + ".";
        if (!f.remedy.empty()) body += " " + f.remedy + ".";
        out += fmt::format("  {:<8} {}\n", level_name(f.level),
                           wrapped(clean(body), 11, static_cast<std::size_t>(columns)));
    }
    return out;
}

namespace {

/// Where the noise of lights and master comes from.
std::string noise_line(const StackReport& s) {
    std::string how = fmt::format("{} of {} by their level, the others by their pixels", s.noise_from_level, s.used);
    if (s.noise_from_level == 0) how = "by their pixels";
    if (s.noise_from_level == s.used) how = "by their level";
    std::string line =
        fmt::format("noise: {:.3g} ADU, {:.3g} expected of its lights ({})", s.noise, s.expected_noise, how);
    if (s.pixel_noise > 0)
        line += fmt::format("; pixels scatter by {:.3g}, for {}", s.pixel_noise,
                            s.sampling.restored ? "restoring makes what is small larger, noise as well"
                                                : "neighbours share their noise");
    if (s.flat_noise_share > 0.001) line += fmt::format("; flats add up to {:.1f} %", 100 * s.flat_noise_share);
    return line;
}

/// Which length makes what, where there are several.
std::string lengths_line(const StackReport& s) {
    if (s.lengths.size() < 2) return {};
    std::vector<std::string> parts;
    for (const LengthReport& l : s.lengths) {
        std::string part = fmt::format("{} ({} light{}) makes {:.3g} % of the pixels", length_text(l), l.lights,
                                       l.lights == 1 ? "" : "s", 100 * l.share);
        if (l.matched > 0)
            part +=
                fmt::format(", its scale matched to {:.2g} % around what the longer one saturates", 100 * l.matched);
        parts.push_back(std::move(part));
    }
    return fmt::format("lengths: {}", fmt::join(parts, "; "));
}

/// The fields of a mosaic; those of like exposure together.
std::string panels_line(const StackReport& s) {
    if (s.panels.empty()) return {};
    std::vector<std::pair<std::string, std::vector<std::string>>> alike;
    for (const PanelReport& p : s.panels) {
        const std::string what =
            p.used == 0 ? fmt::format("NOTHING, {} light{} left out", p.dropped, p.dropped == 1 ? "" : "s")
                        : fmt::format("{} of {} light{}", exposure_text(p.seconds), p.used, p.used == 1 ? "" : "s");
        const auto same = std::find_if(alike.begin(), alike.end(), [&](const auto& a) { return a.first == what; });
        if (same == alike.end())
            alike.push_back({what, {p.name}});
        else
            same->second.push_back(p.name);
    }
    std::vector<std::string> parts;
    for (const auto& [what, names] : alike)
        parts.push_back(fmt::format("{}{}: {}", fmt::join(names, ", "), names.size() > 1 ? " each" : "", what));
    return fmt::format("panels: {}, solved together ({}); noise is of a place in one of them", s.panels.size(),
                       fmt::join(parts, "; "));
}

/// What no length shows. A few pixels are stars, as everywhere.
std::string burnt_line(const StackReport& s) {
    if (!(s.burnt.pixels > 0)) return {};
    return fmt::format("saturated{}: {:.0f} pixels, at most {:.0f} together, around ({}, {})",
                       s.lengths.size() > 1 ? " in all lengths" : "", s.burnt.pixels, s.burnt.largest,
                       s.burnt.x + s.burnt.width / 2, s.burnt.y + s.burnt.height / 2);
}

/// How a comet was followed, and what was made of it.
std::string comet_line(const StackReport& s) {
    if (s.comet.file.empty()) return {};
    return fmt::format("comet: {}; {:.1f} px an hour towards {:.0f} deg; {} follows it (noise {:.3g} ADU), {} shows it "
                       "among the stars, {} the stars alone",
                       s.comet.text, s.comet.rate, s.comet.angle, s.comet.file, s.comet.noise, s.comet.both_file,
                       s.file);
}

/// Trails, star cores: what was done beside the rejection itself.
std::string beside_line(const StackReport& s) {
    std::vector<std::string> parts;
    if (s.under_streaks > 0)
        parts.push_back(fmt::format("{} of the samples left out under trails", share(s.under_streaks)));
    constexpr double kTold = 1.5; // as much in cores as elsewhere
    if (s.core_rejected_at_first > kTold * s.rejected_elsewhere)
        parts.push_back(
            fmt::format("in star cores {} rejected at first, {} with limits widened by the seeing of the lights "
                        "({} elsewhere)",
                        share(s.core_rejected_at_first), share(s.core_rejected), share(s.rejected_elsewhere)));
    return fmt::format("{}", fmt::join(parts, "; "));
}

/// What lights that were dropped would have added.
std::string left_out_line(const StackReport& s) {
    int lights = 0;
    double effective = 0;
    for (const FrameReport& f : s.frames)
        if (!f.used && f.worth > 0 && f.seconds > 0) {
            ++lights;
            effective += f.seconds * f.worth;
        }
    if (lights == 0 || !(s.seconds_effective > 0)) return {};
    return fmt::format("the {} left out that could be measured would have added {} effective ({:+.0f} %)",
                       lights == 1 ? "light" : fmt::format("{} lights", lights), exposure_text(effective),
                       100 * effective / s.seconds_effective);
}

} // namespace

std::vector<std::string> stack_lines(const StackReport& s) {
    std::vector<std::string> out;
    const auto tell = [&](std::string line) { out.push_back(std::move(line)); };
    if (!s.canvas.empty()) tell("shows " + s.canvas);
    if (!s.colour_method.empty()) {
        std::string line = "colour: " + s.colour_method;
        if (s.colour_noise.size() == 3)
            line += fmt::format("; noise of red, green, blue {:.2f}, {:.2f}, {:.2f}", s.colour_noise[0],
                                s.colour_noise[1], s.colour_noise[2]);
        if (s.channel_scales.size() == 3)
            line += fmt::format("; the average star is white at {:.3f}, 1, {:.3f} (not applied)", s.channel_scales[0],
                                s.channel_scales[2]);
        tell(line);
    }
    if (!s.defects.empty()) tell("defects: " + s.defects);
    if (s.electrons_per_adu > 0)
        tell(fmt::format("noise model: {:.3g} e-/ADU by {}", s.electrons_per_adu, s.noise_model));
    for (const std::string& line : {panels_line(s), lengths_line(s), burnt_line(s), comet_line(s)})
        if (!line.empty()) tell(line);
    if (!s.sampling.text.empty()) tell("sampling: " + s.sampling.text);
    if (s.noise > 0) tell(noise_line(s));
    if (!s.levels.empty()) tell("levels: " + s.levels);
    if (!s.combination.empty()) tell("combined: " + s.combination);
    for (const std::string& line : {beside_line(s), left_out_line(s)})
        if (!line.empty()) tell(line);
    int fitted = 0;
    std::string example;
    for (const FrameReport& f : s.frames)
        if (!f.dark_note.empty()) {
            ++fitted;
            example = f.dark_note;
        }
    if (fitted)
        tell(fmt::format("the dark was fitted to {} of {} lights, the last: {}", fitted, s.frames.size(), example));
    return out;
}

namespace {

/// What the stacks' numbers rest on: once for all that share it, with their names where not all do.
std::string stack_details(const RunReport& report, int columns) {
    struct Line {
        std::string text;
        std::vector<std::string> stacks;
    };
    std::vector<Line> lines;
    std::size_t made = 0;
    for (const StackReport& s : report.stacks) {
        if (s.file.empty()) continue;
        ++made;
        const auto tell = [&](const std::string& text) {
            const auto same = std::find_if(lines.begin(), lines.end(), [&](const Line& l) { return l.text == text; });
            if (same == lines.end())
                lines.push_back({text, {s.name}});
            else
                same->stacks.push_back(s.name);
        };
        for (const std::string& line : stack_lines(s))
            tell(line);
    }
    std::string out;
    const auto add = [&](const std::string& text, int indent) {
        const auto at = static_cast<std::size_t>(indent);
        out += std::string(at, ' ') + wrapped(clean(text), at + 2, static_cast<std::size_t>(columns)) + "\n";
    };
    for (const Line& l : lines) {
        const bool all = l.stacks.size() == made;
        if (all || l.stacks.size() > 1) add((all ? "" : fmt::format("{}: ", fmt::join(l.stacks, ", "))) + l.text, 2);
    }
    for (const StackReport& s : report.stacks) { // what is so of one alone, below its name
        bool named = made < 2;
        for (const Line& l : lines) {
            if (made < 2 || l.stacks.size() != 1 || l.stacks.front() != s.name) continue;
            if (!named) add(s.name, 2);
            named = true;
            add(l.text, 4);
        }
    }
    return out;
}

/// What lies between the frames, which leads and why, and how those came onto the reference that did not at once.
std::string ways(const RunReport& report, int columns) {
    std::string out;
    std::map<std::string, std::vector<std::string>> by_model;
    for (const StackReport& s : report.stacks)
        for (const std::string& o : s.optics)
            by_model[o].push_back(s.name);
    const auto line = [&](const std::string& text) {
        out += fmt::format("  {}\n", wrapped(clean(text), 4, static_cast<std::size_t>(columns)));
    };
    std::vector<std::string> told;
    for (const StackReport& s : report.stacks) {
        if (s.reference.empty() || std::find(told.begin(), told.end(), s.reference) != told.end()) continue;
        told.push_back(s.reference);
        line(fmt::format("on the grid of {}{}", s.reference,
                         s.reference_reason.empty() ? "" : ": " + s.reference_reason));
        for (const std::string& other : s.runners_up)
            line("  next to it " + other);
    }
    for (const auto& [model, stacks] : by_model)
        line(fmt::format("between the frames{}: {}",
                         by_model.size() > 1 ? fmt::format(" of {}", fmt::join(stacks, ", ")) : "", model));
    for (const StackReport& s : report.stacks)
        for (const FrameReport& f : s.frames)
            if (f.used && !f.registered_how.empty()) line(fmt::format("{}: {}", f.path, f.registered_how));
    return out;
}

} // namespace

namespace {

std::string masters_part(const RunReport& report, int columns) {
    std::string out;
    if (!report.masters.empty()) {
        Table t({"master", "frames", "level", "frame noise", "noise", "gradient", "rejected", "offset removed by",
                 "made in"});
        std::vector<std::string> ways;
        for (const MasterReport& m : report.masters) {
            const auto figure = [&](double v) {
                return m.role == "flat" ? fmt::format("{:.2f} %", 100 * v) : fmt::format("{:.2f}", v);
            };
            t.add({m.name, fmt::format("{}", m.frames), fmt::format("{:.0f}", m.level), figure(m.frame_noise),
                   figure(m.noise), figure(m.gradient), share(m.rejected_share), m.offset.empty() ? "-" : m.offset,
                   m.reused ? "kept" : duration_text(m.time)});
            const std::string way = fmt::format("{}: {}", m.role, m.combination);
            if (!m.combination.empty() && std::find(ways.begin(), ways.end(), way) == ways.end()) ways.push_back(way);
        }
        out += "Calibration masters (levels, noise and gradients in ADU)\n" +
               t.text(columns, {"gradient", "frame noise", "rejected", "made in", "level"});
        for (const std::string& way : ways)
            out += fmt::format("  {}\n", wrapped(clean(way), 4, static_cast<std::size_t>(columns)));
        out += "\n";
    }
    return out;
}

} // namespace

namespace {

std::string composites_part(const RunReport& report, int columns) {
    std::string out;
    for (const CompositeReport& c : report.composites) {
        std::vector<std::string> parts;
        for (const CompositePartReport& p : c.parts)
            parts.push_back(fmt::format("{} ({:.0f} %)", p.name, 100 * p.weight));
        out += "  " +
               wrapped(clean(fmt::format("{}: {} of {}, {}; noise {:.3g} ADU, {} of exposure{}", c.name, c.kind,
                                         fmt::join(parts, ", "), c.text, c.noise, exposure_text(c.seconds_total),
                                         c.reused ? " (kept)" : "")),
                       4, static_cast<std::size_t>(columns)) +
               "\n";
    }
    return out.empty() ? out : "\nMade of several master lights\n" + out;
}

} // namespace

std::string masters_table(const RunReport& report, int columns) {
    std::string out = masters_part(report, columns);
    if (out.empty()) out = "No masters are needed: no calibration frames go with these lights.\n";
    if (!report.findings.empty()) out += "Findings\n" + findings_text(report.findings, columns);
    return out + fmt::format("\nResults are in {}. Took {}.\n", report.output, duration_text(report.time));
}

std::string run_table(const RunReport& report, int columns) {
    std::string out = masters_part(report, columns);
    Table t({"stack", "used", "dropped", "exposure", "effective", "noise", "FWHM", "rej. low", "rej. high", "made in"});
    for (const StackReport& s : report.stacks)
        t.add({s.name, fmt::format("{}", s.used), fmt::format("{}", s.dropped), exposure_text(s.seconds_total),
               exposure_text(s.seconds_effective), fmt::format("{:.2f}", s.noise), fmt::format("{:.2f} px", s.fwhm),
               share(s.rejected_low), share(s.rejected_high), s.reused ? "kept" : duration_text(s.time)});
    out += "Master lights (background noise in ADU; effective: seconds times worth)\n" +
           t.text(columns, {"rej. low", "made in", "rej. high", "exposure"});
    out += stack_details(report, columns);
    out += composites_part(report, columns);

    std::string left_out;
    for (const StackReport& s : report.stacks)
        for (const FrameReport& f : s.frames)
            if (!f.used)
                left_out += fmt::format("  {}\n",
                                        wrapped(clean(f.path + "  " + f.reason), 6, static_cast<std::size_t>(columns)));
    if (!left_out.empty()) out += "\nLeft out\n" + left_out;

    Table r({"registration", "frames", "turned by", "farthest shift", "median residual", "worst"});
    for (const StackReport& s : report.stacks) {
        std::vector<double> rms;
        double shift = 0, lowest = 1e9, highest = -1e9;
        for (const FrameReport& f : s.frames) {
            if (!f.used) continue;
            if (f.path != s.reference) rms.push_back(f.rms);
            shift = std::max(shift, std::hypot(f.shift_x, f.shift_y));
            lowest = std::min(lowest, f.rotation);
            highest = std::max(highest, f.rotation);
        }
        if (rms.empty()) continue;
        std::sort(rms.begin(), rms.end());
        r.add({s.name, fmt::format("{}", s.used),
               fmt::format("{:.1f} to {:.1f} deg", std::round(10 * lowest) / 10 + 0.0,
                           std::round(10 * highest) / 10 + 0.0),
               fmt::format("{:.1f} px", shift), fmt::format("{:.3f} px", rms[rms.size() / 2]),
               fmt::format("{:.3f} px", rms.back())});
    }
    if (!r.empty())
        out += "\nRegistration\n" + r.text(columns, {"worst", "turned by", "frames"}) + ways(report, columns);
    if (!report.findings.empty()) out += "\nFindings\n" + findings_text(report.findings, columns);
    out += fmt::format("\nResults are in {} (masters, lights with previews, report). Took {}.\n", report.output,
                       duration_text(report.time));
    return out;
}

namespace {

/// What a rejection does, where its name stands beside it.
std::string in_short(std::string text) {
    for (const std::string_view known : {"rejecting ", "by generalised ESD, "})
        if (const auto at = text.find(known); at != std::string::npos) text.erase(at, known.size());
    return text;
}

} // namespace

std::string choice_tables(const std::vector<StackReport>& stacks, int columns) {
    std::string out;
    for (const StackReport& s : stacks) {
        Table t({"", "rejection", "does", "efficiency", "left above", "left below", "in cores"});
        for (const RejectionReport& r : s.rejection_trials)
            t.add({r.chosen ? ">" : "", r.method, in_short(r.text), fmt::format("{:.2f} %", -100 * r.loss + 0.0),
                   fmt::format("{:.2f} %", 100 * r.left), fmt::format("{:.2f} %", 100 * r.left_low),
                   fmt::format("{:.2f} %", 100 * r.cores)});
        if (!t.empty())
            out += fmt::format("{}: rejections tried (left: of the light of outliers that were added; > taken)\n{}\n",
                               s.name, t.text(columns, {"left below", "in cores", "does"}));
        Table w({"", "weights", "noise", "FWHM"});
        for (const WeightCost& c : s.weight_costs)
            w.add({c.weights == s.weights ? ">" : "", c.weights, fmt::format("{:.4g}", c.noise),
                   c.fwhm > 0 ? fmt::format("{:.2f} px", c.fwhm) : "-"});
        if (s.used > 1 && !w.empty())
            out += fmt::format("{}: weights, and what they make (> taken)\n{}\n", s.name, w.text(columns, {}));
    }
    return out;
}

void write_report(const RunReport& report) {
    const std::filesystem::path output(report.output);
    std::string text = kReportMark + run_table(report);
    if (const std::string tables = choice_tables(report.stacks); !tables.empty()) text += "\n" + tables;
    write_text_safely(output / "report.txt", text);
    nlohmann::json json = to_json(report);
    json["creator"] = kCreator; // sorts first: the mark of our own files
    write_text_safely(output / "report.json", json_text(json, 1) + "\n");
}

namespace {

std::string shortened(const std::string& text, std::size_t most) {
    return text.size() <= most ? text : text.substr(0, most - 3) + "...";
}

} // namespace

std::string scan_table(const Scan& scan, const Pairing& pairing, int columns) {
    std::string out;
    struct Line {
        int count = 0;
        double total = 0;
        Span seconds, temperature;
        std::map<std::string, int> sources;
        double least_sure = 1;
    };
    std::map<std::vector<std::string>, Line> lines;
    for (const Exposure& e : scan.exposures) {
        const std::string role = std::string(e.is_master ? "master " : "") + std::string(role_name(e.role));
        Line& l = lines[{role, e.night.empty() ? "-" : e.night, e.filter.empty() ? "-" : e.filter,
                         fmt::format("{} x {}{}", e.width, e.height, e.cfa.empty() ? "" : " " + e.cfa.substr(0, 4)),
                         e.target.empty() ? "-" : e.target, e.role == Role::flat ? "" : seconds_text(e.seconds)}];
        ++l.count;
        l.total += e.seconds.value_or(0);
        l.seconds.add(e.seconds);
        l.temperature.add(e.sensor_temperature());
        const Source source = e.source(Field::role);
        if (source.origin == Origin::pixels) l.least_sure = std::min(l.least_sure, e.role_confidence);
        ++l.sources[source.origin == Origin::pixels ? "pixels" : source.text()];
    }
    Table t({"role", "night", "filter", "exposure", "sensor", "size", "target", "files", "total", "known by"});
    for (const auto& [key, l] : lines) {
        const auto usual =
            std::max_element(l.sources.begin(), l.sources.end(), [](auto& a, auto& b) { return a.second < b.second; });
        std::string source = shortened(usual->first, 48);
        if (usual->first == "pixels")
            source = fmt::format("pixels, {:.0f} % sure or more", std::min(99.0, 100 * l.least_sure));
        if (l.sources.size() > 1) source += fmt::format(" and {} more ways", l.sources.size() - 1);
        t.add({key[0], key[1], key[2], l.seconds.text("s", 1e-3), l.temperature.text("C", 1), key[3], key[4],
               fmt::format("{}", l.count), exposure_text(l.total), source});
    }
    if (!t.empty()) out += t.text(columns, {"total", "target", "size", "sensor"});
    std::string stacks = fmt::format("{} exposures; {} stack{}: ", scan.exposures.size(), pairing.stacks.size(),
                                     pairing.stacks.size() == 1 ? "" : "s");
    for (std::size_t i = 0; i < pairing.stacks.size(); ++i)
        stacks += fmt::format("{}{} ({})", i ? ", " : "", pairing.stacks[i].name, pairing.stacks[i].lights.size());
    if (pairing.stacks.empty()) stacks += "none, there are no lights";
    out += "\n" + wrapped(clean(stacks), 2, static_cast<std::size_t>(columns)) + "\n";
    if (scan.other_files) out += fmt::format("{} files of other kinds were passed over\n", scan.other_files);
    if (scan.excluded) out += fmt::format("{} files or folders were left out by the recipe\n", scan.excluded);
    std::vector<Finding> findings = scan.findings;
    findings.insert(findings.end(), pairing.findings.begin(), pairing.findings.end());
    if (!findings.empty()) out += "\nFindings\n" + findings_text(findings, columns);
    return out;
}

} // namespace kasane
