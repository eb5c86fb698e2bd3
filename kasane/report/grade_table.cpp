#include <kasane/report/grade_table.hpp>

#include <kasane/base/error.hpp>
#include <kasane/report/csv.hpp>
#include <kasane/report/tables.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numeric>

namespace kasane {

namespace {

Measure required(const std::string& name) {
    const auto m = measure_named(name);
    if (m) return *m;
    std::string all;
    for (int i = 0; i < kMeasures; ++i)
        all += fmt::format("{}{}", i ? ", " : "", measure_info(static_cast<Measure>(i)).name);
    throw UsageError(fmt::format("\"{}\" is no measure", name), {}, "Measures are " + all);
}

/// How good a value is within its stack, as one character: full is best.
std::string bar(const StackGrade& stack, Measure m, double value) {
    static const std::array<const char*, 8> levels = {"▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"};
    const int better = measure_info(m).better;
    if (better == 0 || !std::isfinite(value)) return " ";
    double low = std::numeric_limits<double>::infinity(), high = -low;
    for (const FrameGrade& f : stack.frames)
        if (const double v = f.figures[m]; std::isfinite(v)) {
            low = std::min(low, v);
            high = std::max(high, v);
        }
    if (!(high > low)) return levels.back();
    const double share = (value - low) / (high - low);
    return levels[static_cast<std::size_t>(std::lround(7 * (better > 0 ? share : 1 - share)))];
}

std::string clock_of(const FrameGrade& f) {
    return f.start.size() >= 16 ? f.start.substr(11, 5) : "-";
}

std::string percent_change(double now, double before) {
    if (!(before > 0) || !(now > 0)) return "-";
    return fmt::format("{:+.1f} %", 100 * (now / before - 1));
}

std::vector<std::size_t> ordered(const StackGrade& stack, const GradeTableOptions& o) {
    std::vector<std::size_t> order(stack.frames.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    const auto& frames = stack.frames;
    if (o.sort == "time") return order;
    if (o.sort == "file") {
        std::sort(order.begin(), order.end(), [&](auto a, auto b) { return frames[a].path < frames[b].path; });
        return order;
    }
    const bool by_verdict = o.sort == "verdict";
    const Measure m = by_verdict ? Measure::worth : required(o.sort);
    const double sign = measure_info(m).better < 0 ? -1 : 1;
    const auto value = [&](std::size_t i) {
        const double v = frames[i].figures[m];
        return std::isfinite(v) ? sign * v : -std::numeric_limits<double>::infinity();
    };
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) {
        if (by_verdict && frames[a].verdict.keep != frames[b].verdict.keep) return !frames[a].verdict.keep;
        return value(a) < value(b);
    });
    return order;
}

std::string verdict_word(const Verdict& v) {
    return v.author == Author::person ? (v.keep ? "KEEP" : "DROP") : v.keep ? "keep" : "drop";
}

std::string frames_text(const StackGrade& stack, const GradeTableOptions& o, const std::vector<Measure>& columns) {
    std::vector<std::string> heading = {"", "exposure", "night", "at"};
    for (const Measure m : columns)
        heading.emplace_back(measure_info(m).name);
    Table table(heading);
    std::string reasons;
    std::size_t shown = 0, left_out = 0;
    for (const std::size_t i : ordered(stack, o)) {
        const FrameGrade& f = stack.frames[i];
        if ((o.only_dropped && f.verdict.keep) || (!o.night.empty() && f.night != o.night)) continue;
        if (o.most > 0 && shown == o.most) {
            ++left_out;
            continue;
        }
        ++shown;
        std::vector<std::string> row = {verdict_word(f.verdict), f.path, f.night, clock_of(f)};
        for (const Measure m : columns)
            row.push_back(value_text(m, f.figures[m]) + " " + bar(stack, m, f.figures[m]));
        table.add(std::move(row));
        if (!f.verdict.reason.empty())
            reasons += fmt::format("  {}\n", wrapped(fmt::format("{}: {}", f.path, f.verdict.reason), 6,
                                                     static_cast<std::size_t>(o.width)));
    }
    std::vector<std::string> least = {"night"};
    for (auto m = columns.rbegin(); m != columns.rend(); ++m) // the last asked for is needed least
        least.emplace_back(measure_info(*m).name);
    std::string out = shown ? table.text(o.width, least) : "  nothing to show\n";
    if (left_out) out += fmt::format("  ... and {} more (--all)\n", left_out);
    if (!reasons.empty()) out += "\n" + reasons;
    return out;
}

std::string prediction_row(const Prediction& p) {
    return fmt::format("{} exposures, {}, effective {}, noise {:.2f} ADU, FWHM {:.2f} px", p.frames,
                       exposure_text(p.seconds), exposure_text(p.effective_seconds), p.noise, p.fwhm);
}

std::string limits_text(const StackGrade& stack, int width) {
    Table table({"limit", "drops", "alone", "noise without", "FWHM without", "10 % looser", "10 % tighter"});
    for (const LimitEffect& e : stack.limits) {
        if (e.drops == 0 && e.tighter.frames == stack.kept.frames) continue;
        const auto change = [&](const Prediction& p) {
            return p.frames == stack.kept.frames ? std::string("the same")
                                                 : fmt::format("{:+d}, noise {}", p.frames - stack.kept.frames,
                                                               percent_change(p.noise, stack.kept.noise));
        };
        table.add({limit_text(e.limit), fmt::format("{}", e.drops), fmt::format("{}", e.alone),
                   percent_change(e.without.noise, stack.kept.noise), percent_change(e.without.fwhm, stack.kept.fwhm),
                   change(e.looser), change(e.tighter)});
    }
    return table.empty() ? "" : "\n" + table.text(width, {"FWHM without", "10 % tighter", "10 % looser", "alone"});
}

} // namespace

std::string grade_text(const GradeReport& r, const GradeTableOptions& o) {
    std::vector<Measure> columns;
    for (const std::string& name : o.columns)
        columns.push_back(required(name));
    if (columns.empty())
        columns = {Measure::stars, Measure::fwhm,         Measure::eccentricity, Measure::sky,
                   Measure::worth, Measure::transparency, Measure::obstructed};
    std::string out;
    for (const StackGrade& s : r.stacks) {
        if (!o.filter.empty() && s.filter != o.filter) continue;
        out += fmt::format("{}{}\n", out.empty() ? "" : "\n", s.name);
        out += frames_text(s, o, columns);
        out += fmt::format("\n  kept:       {}\n", prediction_row(s.kept));
        if (s.all.frames != s.kept.frames)
            out += fmt::format("  everything: {}\n  dropping {} changes the noise by {} and the FWHM by {}\n",
                               prediction_row(s.all), s.all.frames - s.kept.frames,
                               percent_change(s.kept.noise, s.all.noise), percent_change(s.kept.fwhm, s.all.fwhm));
        out += limits_text(s, o.width);
    }
    Table nights({"night", "stack", "kept", "of", "exposure", "effective", "FWHM", "transparency"});
    std::map<std::string, double> effective;
    double seconds = 0, total = 0;
    for (const StackGrade& s : r.stacks)
        for (const NightGrade& n : s.nights) {
            if ((!o.filter.empty() && s.filter != o.filter) || (!o.night.empty() && n.night != o.night)) continue;
            nights.add({n.night.empty() ? "-" : n.night, s.name, fmt::format("{}", n.kept), fmt::format("{}", n.frames),
                        exposure_text(n.kept_seconds), exposure_text(n.effective_seconds),
                        n.fwhm > 0 ? fmt::format("{:.2f} px", n.fwhm) : "-",
                        n.transparency > 0 ? fmt::format("{:.2f}", n.transparency) : "-"});
            seconds += n.kept_seconds;
            total += n.effective_seconds;
        }
    out += "\nNights (kept exposures; effective: seconds times worth)\n" +
           nights.text(o.width, {"transparency", "exposure"});
    out += fmt::format("  all kept together: {}, effective {}\n", exposure_text(seconds), exposure_text(total));
    if (!r.drifts.empty()) {
        out += "\nThe telescope\n";
        for (const NightDrift& d : r.drifts)
            for (const std::string& line : d.drift.diagnosis)
                if (o.night.empty() || d.night == o.night) out += fmt::format("  {}  {}\n", d.night, line);
    }
    if (!r.findings.empty()) out += "\nFindings\n" + findings_text(r.findings, o.width);
    return out;
}

std::string grade_csv(const GradeReport& r) {
    std::string out = "stack,file,night,filter,start,verdict,by,reason";
    for (int m = 0; m < kMeasures; ++m)
        out += fmt::format(",{}", measure_info(static_cast<Measure>(m)).name);
    out += "\r\n";
    for (const StackGrade& s : r.stacks)
        for (const FrameGrade& f : s.frames) {
            out += fmt::format("{},{},{},{},{},{},{},{}", csv_cell(s.name), csv_cell(f.path), csv_cell(f.night),
                               csv_cell(f.filter), csv_cell(f.start), f.verdict.keep ? "keep" : "drop",
                               author_name(f.verdict.author), csv_cell(f.verdict.reason));
            for (int m = 0; m < kMeasures; ++m) {
                const double v = f.figures[static_cast<Measure>(m)];
                out += std::isfinite(v) ? fmt::format(",{:.8g}", v) : ",";
            }
            out += "\r\n";
        }
    return out;
}

} // namespace kasane
