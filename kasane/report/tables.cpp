#include <kasane/report/json.hpp>
#include <kasane/report/tables.hpp>

#include <kasane/base/output_file.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

std::size_t shown_width(const std::string& text) { // bytes of UTF-8 that begin a character
    return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xc0) != 0x80; }));
}

bool numeric(const std::string& text) {
    return !text.empty() && (std::isdigit(static_cast<unsigned char>(text.front())) ||
                             ((text.front() == '-' || text.front() == '+') && text.size() > 1));
}

std::string clean(const std::string& text) { // header text must not steer the terminal
    std::string out;
    for (const unsigned char c : text)
        out += c < 0x20 || c == 0x7f ? '?' : static_cast<char>(c);
    return out;
}

std::string share(double s) {
    return fmt::format("{:.2f} %", 100 * s);
}

} // namespace

std::string wrapped(const std::string& text, std::size_t indent, std::size_t width) {
    std::string out, line;
    std::size_t start = 0;
    while (start < text.size()) {
        const std::size_t end = std::min(text.find(' ', start), text.size());
        const std::string word = text.substr(start, end - start);
        if (!line.empty() && line.size() + 1 + word.size() > width - indent) {
            out += line + "\n" + std::string(indent, ' ');
            line.clear();
        }
        line += (line.empty() ? "" : " ") + word;
        start = end + 1;
    }
    return out + line;
}

std::string Table::text(int columns, const std::vector<std::string>& least_needed) const {
    std::vector<std::size_t> width;
    for (const auto& row : rows_)
        for (std::size_t c = 0; c < row.size(); ++c) {
            if (c >= width.size()) width.push_back(0);
            width[c] = std::max(width[c], shown_width(row[c]));
        }
    std::vector<bool> shown(width.size(), true);
    std::vector<std::string> hidden;
    const auto whole = [&] {
        std::size_t sum = 0;
        for (std::size_t c = 0; c < width.size(); ++c)
            if (shown[c]) sum += width[c] + 2;
        return sum;
    };
    for (const std::string& heading : least_needed) {
        if (whole() <= static_cast<std::size_t>(columns)) break;
        const auto at = std::find(rows_.front().begin(), rows_.front().end(), heading);
        if (at == rows_.front().end()) continue;
        shown[static_cast<std::size_t>(at - rows_.front().begin())] = false;
        hidden.push_back(heading);
    }
    std::string out;
    for (std::size_t r = 0; r < rows_.size(); ++r) {
        std::string line;
        for (std::size_t c = 0; c < rows_[r].size(); ++c) {
            if (!shown[c]) continue;
            const std::string cell = clean(rows_[r][c]);
            const std::string gap(width[c] - std::min(width[c], shown_width(cell)), ' ');
            const bool right =
                numeric(cell) || (r == 0 && rows_.size() > 1 && c < rows_[1].size() && numeric(rows_[1][c]));
            line += "  " + (right ? gap + cell : cell + gap);
        }
        line.erase(line.find_last_not_of(' ') + 1);
        out += line + "\n";
    }
    if (!hidden.empty())
        out += fmt::format("  (not shown, for want of width: {}; --json has all)\n", fmt::join(hidden, ", "));
    return out;
}

std::string duration_text(double seconds) {
    const auto s = std::llround(seconds);
    if (s >= 3600) return fmt::format("{} h {:02} min", s / 3600, s / 60 % 60);
    if (s >= 60) return s % 60 ? fmt::format("{} min {:02} s", s / 60, s % 60) : fmt::format("{} min", s / 60);
    return seconds < 10 ? fmt::format("{:.1f} s", seconds) : fmt::format("{} s", s);
}

std::string exposure_text(double seconds) {
    return seconds > 0 ? duration_text(seconds) : "unknown";
}

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
        if (!s.colour_method.empty()) {
            std::string line = "colour: " + s.colour_method;
            if (s.colour_noise.size() == 3)
                line += fmt::format("; noise of red, green, blue {:.2f}, {:.2f}, {:.2f}", s.colour_noise[0],
                                    s.colour_noise[1], s.colour_noise[2]);
            if (s.channel_scales.size() == 3)
                line += fmt::format("; the average star is white at {:.3f}, 1, {:.3f} (not applied)",
                                    s.channel_scales[0], s.channel_scales[2]);
            tell(line);
        }
        if (!s.defects.empty()) tell("defects: " + s.defects);
        if (s.electrons_per_adu > 0)
            tell(fmt::format("noise model: {:.3g} e-/ADU by {}", s.electrons_per_adu, s.noise_model));
        int fitted = 0;
        std::string example;
        for (const FrameReport& f : s.frames)
            if (!f.dark_note.empty()) {
                ++fitted;
                example = f.dark_note;
            }
        if (fitted)
            tell(fmt::format("the dark was fitted to {} of {} lights, the last: {}", fitted, s.frames.size(), example));
    }
    std::string out;
    for (const Line& l : lines) {
        const std::string whose = l.stacks.size() == made ? "" : fmt::format("{}: ", fmt::join(l.stacks, ", "));
        out += fmt::format("  {}\n", wrapped(clean(whose + l.text), 4, static_cast<std::size_t>(columns)));
    }
    return out;
}

} // namespace

std::string run_table(const RunReport& report, int columns) {
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
    Table t({"stack", "used", "dropped", "exposure", "effective", "noise", "FWHM", "rej. low", "rej. high", "made in"});
    for (const StackReport& s : report.stacks)
        t.add({s.name, fmt::format("{}", s.used), fmt::format("{}", s.dropped), exposure_text(s.seconds_total),
               exposure_text(s.seconds_effective), fmt::format("{:.2f}", s.noise), fmt::format("{:.2f} px", s.fwhm),
               share(s.rejected_low), share(s.rejected_high), s.reused ? "kept" : duration_text(s.time)});
    out += "Master lights (background noise in ADU; effective: seconds times worth)\n" +
           t.text(columns, {"rej. low", "made in", "rej. high", "exposure"});
    out += stack_details(report, columns);

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
    if (!r.empty()) out += "\nRegistration\n" + r.text(columns, {"worst", "turned by", "frames"});
    if (!report.findings.empty()) out += "\nFindings\n" + findings_text(report.findings, columns);
    out += fmt::format("\nResults are in {} (masters, lights with previews, report). Took {}.\n", report.output,
                       duration_text(report.time));
    return out;
}

void write_report(const RunReport& report) {
    const std::filesystem::path output(report.output);
    write_text_safely(output / "report.txt", kReportMark + run_table(report));
    nlohmann::json json = to_json(report);
    json["creator"] = kCreator; // sorts first: the mark of our own files
    write_text_safely(output / "report.json", json_text(json, 1) + "\n");
}

namespace {

/// The span of a value over several files: "120 s", "0.4 to 3.2 s", "-".
class Span {
public:
    void add(const std::optional<double>& v) {
        if (!v) return;
        low_ = any_ ? std::min(low_, *v) : *v;
        high_ = any_ ? std::max(high_, *v) : *v;
        any_ = true;
    }
    std::string text(const char* unit, double same) const {
        if (!any_) return "-";
        if (high_ - low_ <= same) return fmt::format("{:.4g} {}", low_ + 0.0, unit);
        return fmt::format("{:.4g} to {:.4g} {}", low_ + 0.0, high_ + 0.0, unit);
    }

private:
    bool any_ = false;
    double low_ = 0, high_ = 0;
};

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

namespace {

std::string master_text(const Pairing& p, std::size_t i) {
    const MasterPlan& m = p.masters[i];
    return m.existing ? fmt::format("{} (a master that is there)", m.name)
                      : fmt::format("{} ({} frame{})", m.name, m.members.size(), m.members.size() == 1 ? "" : "s");
}

/// One branch of the tree: a heading and what hangs below it.
struct Node {
    std::string text;
    std::vector<Node> below;
};

void draw(const Node& node, const std::string& indent, std::size_t columns, std::string& out) {
    for (std::size_t i = 0; i < node.below.size(); ++i) {
        const bool last = i + 1 == node.below.size();
        const std::string stem = indent + (last ? "   " : "│  ");
        const std::string text = wrapped(clean(node.below[i].text), 0, columns - shown_width(indent) - 6);
        std::string lines;
        for (const char c : text)
            lines += c == '\n' ? "\n" + stem + "   " : std::string(1, c);
        out += indent + (last ? "└─ " : "├─ ") + lines + "\n";
        draw(node.below[i], stem, columns, out);
    }
}

Node stack_tree(const CheckReport& r, const StackPlan& s) {
    Node root;
    const auto& all = r.scan.exposures;
    std::map<std::string, std::vector<std::size_t>> misses; // text, and the groups it holds for
    std::vector<std::string> order;
    for (std::size_t g = 0; g < s.groups.size(); ++g) {
        const LightsPairedAlike& group = s.groups[g];
        const LightPlan& first = s.lights[group.lights.front()];
        const Exposure& e = all[first.exposure];
        Span warmth;
        for (const std::size_t l : group.lights)
            warmth.add(all[s.lights[l].exposure].sensor_temperature());
        Node node{fmt::format("{} light{}{}, {}, {}{}", group.lights.size(), group.lights.size() == 1 ? "" : "s",
                              e.night.empty() ? "" : " of " + e.night, seconds_text(e.seconds), warmth.text("C", 1),
                              e.gain ? fmt::format(", {} {:g}", e.gain_is_iso ? "ISO" : "gain", *e.gain) : ""),
                  {}};
        Node dark{fmt::format("dark: {}",
                              first.dark ? fmt::format("{}: {}", master_text(r.pairing, *first.dark), first.dark_reason)
                                         : first.dark_reason),
                  {}};
        if (first.bias)
            dark.below.push_back({fmt::format("with the bias {}", master_text(r.pairing, *first.bias)), {}});
        Node flat{fmt::format("flat: {}",
                              first.flat ? fmt::format("{}: {}", master_text(r.pairing, *first.flat), first.flat_reason)
                                         : first.flat_reason),
                  {}};
        if (first.flat && !r.pairing.masters[*first.flat].existing) {
            const MasterPlan& f = r.pairing.masters[*first.flat];
            flat.below.push_back(
                {fmt::format("its offset: {}",
                             f.offset ? fmt::format("{}: {}", master_text(r.pairing, *f.offset), f.offset_reason)
                                      : f.offset_reason),
                 {}});
        }
        node.below = {std::move(dark), std::move(flat)};
        root.below.push_back(std::move(node));
        for (const NearMiss& m : group.near_misses) {
            const std::string text = fmt::format("{}: {}{}", master_text(r.pairing, m.master), m.reason,
                                                 m.allowed.empty() ? "" : "; " + m.allowed);
            if (!misses.count(text)) order.push_back(text);
            misses[text].push_back(g);
        }
    }
    Node not_taken{"not taken", {}};
    constexpr std::size_t kShown = 8;
    for (const std::string& text : order) {
        if (not_taken.below.size() == kShown) {
            not_taken.below.push_back({fmt::format("and {} more (--json shows all)", order.size() - kShown), {}});
            break;
        }
        not_taken.below.push_back({text, {}});
    }
    if (!not_taken.below.empty()) root.below.push_back(std::move(not_taken));
    return root;
}

} // namespace

std::string check_text(const CheckReport& r, int columns) {
    std::string out;
    for (const StackPlan& s : r.pairing.stacks) {
        double seconds = 0;
        for (const LightPlan& l : s.lights)
            seconds += r.scan.exposures[l.exposure].seconds.value_or(0);
        out += fmt::format("{}  {} light{}, {}  ({})\n", clean(s.name), s.lights.size(),
                           s.lights.size() == 1 ? "" : "s", exposure_text(seconds), clean(s.sensor));
        draw(stack_tree(r, s), "", static_cast<std::size_t>(columns), out);
        out += "\n";
    }
    if (r.pairing.stacks.empty()) out += "There are no lights, so nothing is paired.\n\n";
    out += r.findings.empty() ? "Nothing is wrong or missing.\n" : "Findings\n" + findings_text(r.findings, columns);
    const CostEstimate& c = r.cost;
    if (c.masters + c.stacks == 0)
        out += r.pairing.stacks.empty() ? ""
               : c.failed == 0          ? "\nA run has nothing to do: all is done.\n"
                               : fmt::format("\nA run has nothing to do, but {} master light{} cannot be made of the "
                                             "files as they are.\n",
                                             c.failed, c.failed == 1 ? "" : "s");
    else
        out += "\n" +
               wrapped(
                   fmt::format("A run will build {} master{}, measure {} light{} and integrate {} stack{}: about {}{}. "
                               "Results take {} in {} ({} free).",
                               c.masters, c.masters == 1 ? "" : "s", c.lights, c.lights == 1 ? "" : "s", c.stacks,
                               c.stacks == 1 ? "" : "s", duration_text(std::max(1.0, c.seconds)),
                               c.measured ? ", as the last run went here" : ", on a usual machine",
                               size_text(c.result_bytes), r.output, size_text(c.free_bytes)),
                   0, static_cast<std::size_t>(columns)) +
               "\n";
    if (c.cache_bytes > 0 && c.stacks > 0)
        out += fmt::format("Decoded pixels are kept in the cache: up to {}.\n", size_text(c.cache_bytes));
    return out;
}

std::string status_text(const StatusReport& r, int columns) {
    if (r.results.empty())
        return fmt::format("{} exposures; nothing to make of them ('kasane check' says why).\n", r.exposures);
    std::string out;
    Table t({"result", "kind", "frames", "state", "made in"});
    for (const ResultStatus& s : r.results)
        t.add({s.name, s.kind, fmt::format("{}", s.frames), std::string(state_name(s.state)),
               s.state == ResultStatus::State::done && s.time > 0 ? duration_text(s.time) : "-"});
    out += t.text(columns, {"made in", "kind"});
    std::string reasons;
    for (const ResultStatus& s : r.results)
        for (const std::string& why : s.reasons)
            reasons +=
                fmt::format("  {}: {}\n", clean(s.name), wrapped(clean(why), 4, static_cast<std::size_t>(columns)));
    if (!reasons.empty()) out += "\nWhy\n" + reasons;
    if (!r.leftovers.empty()) {
        out += "\nNothing asks for these any more; delete them if you like\n";
        for (const std::string& file : r.leftovers)
            out += fmt::format("  {}/{}\n", clean(r.output), clean(file));
    }
    if (r.cache_bytes > 0)
        out += fmt::format("\nThe cache of decoded pixels holds {} of {}.\n", size_text(r.cache_bytes),
                           size_text(r.cache_limit));
    const auto any = [&](ResultStatus::State state) {
        return std::any_of(r.results.begin(), r.results.end(), [&](const ResultStatus& s) { return s.state == state; });
    };
    if (any(ResultStatus::State::stale) || any(ResultStatus::State::missing))
        out += "\n'kasane run' makes what is stale or not made yet.\n";
    if (any(ResultStatus::State::failed)) out += "\nSome cannot be made of the files as they are.\n";
    if (r.all_done()) out += "\nAll is done.\n";
    return out;
}

} // namespace kasane
