#include <kasane/grading/limits.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

Distribution distribution_of(Measure measure, std::vector<double> values) {
    std::vector<float> known;
    for (const double v : values)
        if (std::isfinite(v)) known.push_back(static_cast<float>(v));
    Distribution d;
    d.count = static_cast<int>(known.size());
    if (known.empty()) {
        d.median = d.spread = d.best = std::numeric_limits<double>::quiet_NaN();
        return d;
    }
    constexpr double kFew = 0.05; // surpass the best
    const int better = measure_info(measure).better;
    d.median = median_in_place(known);
    d.best = better > 0 ? quantile_in_place(known, 1 - kFew) : better < 0 ? quantile_in_place(known, kFew) : d.median;
    d.spread = mad_sigma_in_place(known, static_cast<float>(d.median));
    return d;
}

namespace {

/// The words of a limit, with their places.
class Words {
public:
    explicit Words(const std::string& text) : text_(text) { next(); }

    const std::string& word() const { return word_; }
    bool at_end() const { return word_.empty(); }
    void next() {
        while (end_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[end_])))
            ++end_;
        begin_ = end_;
        if (end_ == text_.size()) {
            word_.clear();
            return;
        }
        const auto is_word = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '.'; };
        const char c = text_[end_++];
        if (c == '>' || c == '<') {
            if (end_ < text_.size() && text_[end_] == '=') ++end_;
        } else if (std::isdigit(static_cast<unsigned char>(c)) || c == '.') { // "1.4x" is two words, "2031-03-12" one
            while (end_ < text_.size() &&
                   (std::isdigit(static_cast<unsigned char>(text_[end_])) || text_[end_] == '.' ||
                    (text_[end_] == '-' && end_ - begin_ >= 4 && end_ + 1 < text_.size() &&
                     std::isdigit(static_cast<unsigned char>(text_[end_ + 1])))))
                ++end_;
        } else if (is_word(c)) {
            while (end_ < text_.size() && (is_word(text_[end_]) || text_[end_] == '-'))
                ++end_;
        }
        word_ = text_.substr(begin_, end_ - begin_);
    }
    bool take(const std::string& w) {
        if (word_ != w) return false;
        next();
        return true;
    }
    /// Everything up to the next comma or the word "on": a filter's name may be of several words.
    std::string take_name() {
        const std::size_t from = begin_;
        std::size_t to = end_;
        do {
            to = end_;
            next();
        } while (!at_end() && word_ != "," && word_ != "on");
        return text_.substr(from, to - from);
    }
    [[noreturn]] void expected(const std::string& what) const {
        throw UsageError(fmt::format("the limit \"{}\" makes no sense at {}: expected {}", text_.substr(0, 200),
                                     at_end() ? "its end" : fmt::format("'{}' (column {})", word_, begin_ + 1), what),
                         {}, "Write it like \"fwhm > 1.4 x median\"; docs/grading.md has the grammar");
    }
    std::optional<double> number() const {
        double v = 0;
        const auto [end, error] = std::from_chars(word_.data(), word_.data() + word_.size(), v);
        if (error != std::errc{} || end != word_.data() + word_.size() || !std::isfinite(v)) return std::nullopt;
        return v;
    }

private:
    const std::string& text_;
    std::string word_;
    std::size_t begin_ = 0, end_ = 0;
};

Measure parse_measure(Words& w) {
    const auto m = measure_named(w.word());
    if (!m) {
        std::string all;
        for (int i = 0; i < kMeasures; ++i)
            all += fmt::format("{}{}", i ? ", " : "", measure_info(static_cast<Measure>(i)).name);
        w.expected("a measure: " + all);
    }
    w.next();
    return *m;
}

bool is_reference(const std::string& word) {
    return word == "night" || word == "stack" || word == "median" || word == "best";
}

Bound parse_reference(Words& w, double factor) {
    Bound b;
    b.number = factor;
    b.of_night = w.word() == "night";
    if (w.word() == "night" || w.word() == "stack") w.next();
    if (w.word() != "median" && w.word() != "best") w.expected("'median' or 'best'");
    b.reference = w.word() == "median" ? Bound::Reference::median : Bound::Reference::best;
    w.next();
    if (w.word() == "+" || w.word() == "-") {
        const double sign = w.word() == "+" ? 1 : -1;
        w.next();
        const auto v = w.number();
        if (!v) w.expected("a number of spreads");
        w.next();
        w.take("x");
        if (!w.take("spread")) w.expected("'spread'");
        b.spreads = sign * *v;
    }
    return b;
}

Bound parse_bound(Words& w, Measure measure) {
    if (is_reference(w.word())) return parse_reference(w, 1);
    const double sign = w.take("-") ? -1 : 1;
    auto v = w.number();
    if (!v) w.expected("a number, 'median' or 'best'");
    w.next();
    *v *= sign;
    if (w.take("x")) {
        if (!is_reference(w.word())) w.expected("'median' or 'best'");
        return parse_reference(w, *v);
    }
    Bound b;
    b.number = *v;
    const std::string unit = measure_info(measure).unit;
    if (w.take("%")) {
        b.number /= 100;
    } else if (!unit.empty() && unit.find('/') == std::string::npos) {
        w.take(unit);
    } else if (!unit.empty() && w.take(unit.substr(0, unit.find('/')))) { // "ADU / s"
        if (!w.take("/") || !w.take(unit.substr(unit.find('/') + 1))) w.expected("the unit " + unit);
    }
    return b;
}

Condition parse_condition(Words& w) {
    Condition c;
    c.measure = parse_measure(w);
    const std::string op = w.word();
    if (op != ">" && op != "<" && op != ">=" && op != "<=") w.expected("'>' or '<'");
    c.above = op[0] == '>';
    c.or_equal = op.size() == 2;
    w.next();
    c.bound = parse_bound(w, c.measure);
    return c;
}

/// Without an exponent: limits are written without.
std::string number_text(double v) {
    std::string text = fmt::format("{:.6g}", v);
    if (text.find('e') == std::string::npos) return text;
    std::array<char, 800> digits{}; // a double has fewer
    const auto end = std::to_chars(digits.data(), digits.data() + digits.size(), v, std::chars_format::fixed).ptr;
    return {digits.data(), end};
}

std::string bound_text(const Bound& b, const char* unit) {
    if (b.reference == Bound::Reference::none) return number_text(b.number) + (*unit ? fmt::format(" {}", unit) : "");
    std::string out = b.number == 1 ? "" : number_text(b.number) + " x ";
    out += b.of_night ? "night " : "";
    out += b.reference == Bound::Reference::median ? "median" : "best";
    if (b.spreads != 0)
        out += fmt::format(" {} {} spread", b.spreads > 0 ? '+' : '-', number_text(std::abs(b.spreads)));
    return out;
}

} // namespace

Limit parse_limit(const std::string& text) {
    Words w(text);
    Limit limit;
    if (w.take("best")) {
        Ranking r;
        const auto n = w.number();
        if (!n || !(*n > 0)) w.expected("a number above zero");
        r.count = *n;
        w.next();
        r.percent = w.take("%");
        if (r.percent && r.count > 100) w.expected("at most 100 %");
        if (!w.take("by")) w.expected("'by' and a measure");
        r.by = parse_measure(w);
        if (measure_info(r.by).better == 0) w.expected("a measure of which more or less is better");
        limit.ranking = r;
    } else {
        do
            limit.conditions.push_back(parse_condition(w));
        while (w.take("and"));
    }
    if (w.take("for")) {
        do {
            if (w.at_end() || w.word() == "," || w.word() == "on") w.expected("a filter");
            limit.filters.push_back(w.take_name());
        } while (w.take(","));
    }
    if (w.take("on")) {
        if (w.at_end()) w.expected("a night like 2031-03-12");
        limit.night = w.take_name();
    }
    if (!w.at_end()) w.expected("'and', 'for', 'on' or the end");
    return limit;
}

std::string limit_text(const Limit& limit) {
    std::string out;
    if (limit.ranking)
        out = fmt::format("best {}{} by {}", number_text(limit.ranking->count), limit.ranking->percent ? " %" : "",
                          measure_info(limit.ranking->by).name);
    for (const Condition& c : limit.conditions)
        out +=
            fmt::format("{}{} {}{} {}", out.empty() ? "" : " and ", measure_info(c.measure).name, c.above ? '>' : '<',
                        c.or_equal ? "=" : "", bound_text(c.bound, measure_info(c.measure).unit));
    for (std::size_t i = 0; i < limit.filters.size(); ++i)
        out += (i ? ", " : " for ") + limit.filters[i];
    if (!limit.night.empty()) out += " on " + limit.night;
    return out;
}

const std::vector<std::string>& standard_limits() {
    static const std::vector<std::string> limits = {
        "stars < 6 and stars < 0.7 x median", // short exposures of a sparse field have no more
        "stars < 0.3 x median",
        "transparency < 0.3",
        "transparency < 0.7 x night best and transparency < night median - 4 spread",
        "sky > 1.7 x night median and worth < 0.7 x night best",
        "obstructed > 0.1",
        "eccentricity > 0.7 and eccentricity > 1.25 x night median",
        "fwhm > 1.4 x night median",
    };
    return limits;
}

Distributions::Distributions(const std::vector<const Figures*>& figures, const std::vector<std::string>& nights) {
    constexpr int kLeastOfNight = 4;
    std::map<std::string, std::vector<const Figures*>> by_night;
    for (std::size_t i = 0; i < figures.size(); ++i)
        by_night[nights[i]].push_back(figures[i]);
    const auto all_of = [](const std::vector<const Figures*>& list) {
        All all;
        for (int m = 0; m < kMeasures; ++m) {
            std::vector<double> values;
            for (const Figures* f : list)
                values.push_back((*f)[static_cast<Measure>(m)]);
            all[static_cast<std::size_t>(m)] = distribution_of(static_cast<Measure>(m), std::move(values));
        }
        return all;
    };
    stack_ = all_of(figures);
    for (const auto& [night, list] : by_night)
        nights_[night] = static_cast<int>(list.size()) < kLeastOfNight ? stack_ : all_of(list);
}

const Distribution& Distributions::of(Measure measure, const std::string& night, bool of_night) const {
    const auto it = nights_.find(night);
    const All& all = of_night && it != nights_.end() ? it->second : stack_;
    return all[static_cast<std::size_t>(measure)];
}

double Distributions::bound_value(const Condition& c, const std::string& night) const {
    if (c.bound.reference == Bound::Reference::none) return c.bound.number;
    const Distribution& d = of(c.measure, night, c.bound.of_night);
    const double reference = c.bound.reference == Bound::Reference::median ? d.median : d.best;
    return c.bound.number * reference + c.bound.spreads * d.spread;
}

bool holds(const Condition& c, double value, double bound) {
    if (!std::isfinite(value) || !std::isfinite(bound)) return false;
    if (c.or_equal && value == bound) return true;
    return c.above ? value > bound : value < bound;
}

std::string reason_text(const Condition& c, double value, double bound) {
    const MeasureInfo& info = measure_info(c.measure);
    const std::string unit = *info.unit ? fmt::format(" {}", info.unit) : "";
    std::string out = fmt::format("{} {}{} is {} {}", info.name, value_text(c.measure, value), unit,
                                  c.above ? "above" : "below", value_text(c.measure, bound));
    if (c.bound.reference != Bound::Reference::none) out += fmt::format(" ({})", bound_text(c.bound, ""));
    return out;
}

} // namespace kasane
