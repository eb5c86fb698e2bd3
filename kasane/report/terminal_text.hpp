// Text that fits a terminal: tables, wrapped lines, times and spans of values.
#pragma once

#include <algorithm>
#include <fmt/format.h>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

/// Where nothing is known of the terminal.
inline constexpr int kUsualColumns = 100;

/// Columns of text, aligned; numbers to the right.
class Table {
public:
    explicit Table(std::vector<std::string> headings) { rows_.push_back(std::move(headings)); }
    void add(std::vector<std::string> row) { rows_.push_back(std::move(row)); }
    bool empty() const { return rows_.size() < 2; }
    /// At most `columns` characters wide, as far as leaving out columns helps: those of these headings, the first to go
    /// first. What was left out is said in a last line.
    std::string text(int columns = kUsualColumns, const std::vector<std::string>& least_needed = {}) const;

private:
    std::vector<std::vector<std::string>> rows_;
};

/// Text in lines of `width` characters; those after the first begin with `indent` blanks.
std::string wrapped(const std::string& text, std::size_t indent, std::size_t width = kUsualColumns);

/// Characters that a terminal shows of UTF-8 text.
std::size_t shown_width(const std::string& text);
/// Control characters as question marks: the text of a header must not steer the terminal.
std::string clean(const std::string& text);

/// "1 h 24 min", "3 min 20 s", "45 s".
std::string duration_text(double seconds);

/// The same of exposure times: "unknown" where they are 0.
std::string exposure_text(double seconds);

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

} // namespace kasane
