#include <kasane/report/terminal_text.hpp>

#include <cctype>
#include <cmath>

namespace kasane {

namespace {

bool numeric(const std::string& text) {
    return !text.empty() && (std::isdigit(static_cast<unsigned char>(text.front())) ||
                             ((text.front() == '-' || text.front() == '+') && text.size() > 1));
}

} // namespace

std::size_t shown_width(const std::string& text) { // bytes of UTF-8 that begin a character
    return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) { return (c & 0xc0) != 0x80; }));
}

std::string clean(const std::string& text) { // header text must not steer the terminal
    std::string out;
    for (const unsigned char c : text)
        out += c < 0x20 || c == 0x7f ? '?' : static_cast<char>(c);
    return out;
}

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

} // namespace kasane
