#include <kasane/report/tables.hpp>

#include <kasane/base/output_file.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

std::size_t shown_width(const std::string& text) { // bytes of UTF-8 that begin a character
    return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xc0) != 0x80; }));
}

bool numeric(const std::string& text) {
    return !text.empty() &&
           (std::isdigit(static_cast<unsigned char>(text.front())) || (text.front() == '-' && text.size() > 1));
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

std::string wrapped(const std::string& text, std::size_t indent, std::size_t width = 110) {
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

} // namespace

std::string Table::text() const {
    std::vector<std::size_t> width;
    for (const auto& row : rows_)
        for (std::size_t c = 0; c < row.size(); ++c) {
            if (c >= width.size()) width.push_back(0);
            width[c] = std::max(width[c], shown_width(row[c]));
        }
    std::string out;
    for (std::size_t r = 0; r < rows_.size(); ++r) {
        std::string line = "  ";
        for (std::size_t c = 0; c < rows_[r].size(); ++c) {
            const std::string cell = clean(rows_[r][c]);
            const std::string gap(width[c] - std::min(width[c], shown_width(cell)), ' ');
            const bool right =
                numeric(cell) || (r == 0 && rows_.size() > 1 && c < rows_[1].size() && numeric(rows_[1][c]));
            line += right ? gap + cell : cell + gap;
            if (c + 1 < rows_[r].size()) line += "  ";
        }
        line.erase(line.find_last_not_of(' ') + 1);
        out += line + "\n";
    }
    return out;
}

std::string duration_text(double seconds) {
    const auto s = std::llround(seconds);
    if (s >= 3600) return fmt::format("{} h {:02} min", s / 3600, s / 60 % 60);
    if (s >= 60) return s % 60 ? fmt::format("{} min {:02} s", s / 60, s % 60) : fmt::format("{} min", s / 60);
    return seconds < 10 ? fmt::format("{:.1f} s", seconds) : fmt::format("{} s", s);
}

std::string findings_text(const std::vector<Finding>& findings) {
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
        out += fmt::format("  {:<8} {}\n", level_name(f.level), wrapped(clean(body), 11));
    }
    return out;
}

std::string run_table(const RunReport& report) {
    std::string out;
    if (!report.masters.empty()) {
        Table t({"master", "frames", "level", "frame noise", "rejected", "offset removed by", "made in"});
        for (const MasterReport& m : report.masters)
            t.add(
                {m.name, fmt::format("{}", m.frames), fmt::format("{:.0f}", m.level),
                 m.role == "flat" ? fmt::format("{:.3f} %", 100 * m.frame_noise) : fmt::format("{:.2f}", m.frame_noise),
                 share(m.rejected_share), m.offset.empty() ? "-" : m.offset,
                 m.reused ? "kept" : duration_text(m.time)});
        out += "Calibration masters (levels and noise in ADU)\n" + t.text() + "\n";
    }
    Table t({"stack", "used", "dropped", "exposure", "effective", "noise", "FWHM", "rej. low", "rej. high", "made in"});
    for (const StackReport& s : report.stacks)
        t.add({s.name, fmt::format("{}", s.used), fmt::format("{}", s.dropped), duration_text(s.seconds_total),
               duration_text(s.seconds_effective), fmt::format("{:.2f}", s.noise), fmt::format("{:.2f} px", s.fwhm),
               share(s.rejected_low), share(s.rejected_high), s.reused ? "kept" : duration_text(s.time)});
    out += "Master lights (background noise in ADU; effective: seconds times worth)\n" + t.text();

    std::string left_out;
    for (const StackReport& s : report.stacks)
        for (const FrameReport& f : s.frames)
            if (!f.used) left_out += fmt::format("  {}  {}\n", clean(f.path), wrapped(clean(f.reason), 6, 130));
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
    if (!r.empty()) out += "\nRegistration\n" + r.text();
    if (!report.findings.empty()) out += "\nFindings\n" + findings_text(report.findings);
    out += fmt::format("\nResults are in {} (masters, lights with previews, report). Took {}.\n", report.output,
                       duration_text(report.time));
    return out;
}

void write_report(const RunReport& report) {
    const std::filesystem::path output(report.output);
    write_text_safely(output / "report.txt", run_table(report));
    write_text_safely(output / "report.json", json_text(to_json(report), 1) + "\n");
}

std::string scan_table(const Scan& scan, const Pairing& pairing) {
    std::string out;
    struct Line {
        int count = 0;
        double seconds = 0;
        std::string source;
    };
    std::map<std::vector<std::string>, Line> lines;
    for (const Exposure& e : scan.exposures) {
        const std::string role = std::string(e.is_master ? "master " : "") + std::string(role_name(e.role));
        Line& l = lines[{role, e.night.empty() ? "-" : e.night, e.filter.empty() ? "-" : e.filter,
                         e.seconds ? fmt::format("{:g} s", *e.seconds) : "-",
                         e.sensor_temperature() ? fmt::format("{:.0f} C", *e.sensor_temperature()) : "-",
                         fmt::format("{} x {}", e.width, e.height), e.target.empty() ? "-" : e.target}];
        ++l.count;
        l.seconds += e.seconds.value_or(0);
        if (l.source.empty()) l.source = e.role_source;
    }
    Table t({"role", "night", "filter", "exposure", "sensor", "size", "target", "files", "total", "known by"});
    for (const auto& [key, l] : lines) {
        std::vector<std::string> row = key;
        row.push_back(fmt::format("{}", l.count));
        row.push_back(duration_text(l.seconds));
        row.push_back(l.source);
        t.add(row);
    }
    if (!t.empty()) out += t.text();
    out += fmt::format("\n{} exposures; {} stack{}: ", scan.exposures.size(), pairing.stacks.size(),
                       pairing.stacks.size() == 1 ? "" : "s");
    for (std::size_t i = 0; i < pairing.stacks.size(); ++i)
        out += fmt::format("{}{} ({})", i ? ", " : "", pairing.stacks[i].name, pairing.stacks[i].lights.size());
    out += pairing.stacks.empty() ? "none, there are no lights\n" : "\n";
    if (scan.other_files) out += fmt::format("{} files of other kinds were passed over\n", scan.other_files);
    std::vector<Finding> findings = scan.findings;
    findings.insert(findings.end(), pairing.findings.begin(), pairing.findings.end());
    if (!findings.empty()) out += "\nFindings\n" + findings_text(findings);
    return out;
}

} // namespace kasane
