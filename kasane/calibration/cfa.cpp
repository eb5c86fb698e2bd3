#include <kasane/calibration/cfa.hpp>

#include <kasane/base/error.hpp>

#include <fmt/format.h>

namespace kasane {

CfaPattern::CfaPattern(const std::string& letters) {
    if (letters.empty()) return;
    if (letters.size() != 4 && letters.size() != 36)
        throw UsageError(fmt::format("\"{}\" is no colour filter pattern", letters), {},
                         "Give the colours of the first 2 x 2 or 6 x 6 pixels, like RGGB");
    const std::string known = "RGB";
    std::array<int, 3> seen{};
    for (std::size_t i = 0; i < letters.size(); ++i) {
        const std::size_t c = known.find(letters[i]);
        if (c == std::string::npos)
            throw UsageError(fmt::format("\"{}\" is no colour filter pattern of red, green and blue", letters), {},
                             "Give the colours of the first pixels, like RGGB");
        colours_[i] = static_cast<std::uint8_t>(c);
        ++seen[c];
    }
    if (!seen[0] || !seen[1] || !seen[2])
        throw UsageError(fmt::format("the colour filter pattern \"{}\" lacks a colour", letters), {},
                         "Give the colours of the first pixels, like RGGB");
    period_ = letters.size() == 4 ? 2 : 6;
}

CfaPattern CfaPattern::shifted(int dx, int dy) const {
    CfaPattern out = *this;
    for (int y = 0; y < period_; ++y)
        for (int x = 0; x < period_; ++x)
            out.colours_[static_cast<std::size_t>(y * period_ + x)] = static_cast<std::uint8_t>(colour(x + dx, y + dy));
    return out;
}

std::string CfaPattern::letters() const {
    std::string out;
    for (int i = 0; i < period_ * period_; ++i)
        out += "RGB"[colours_[static_cast<std::size_t>(i)]];
    return out;
}

NoiseSteps CfaPattern::steps(int of) const {
    if (empty()) return {};
    const auto keeps = [&](int dx, int dy) {
        for (int y = 0; y < period_; ++y)
            for (int x = 0; x < period_; ++x)
                if ((colour(x, y) == of) != (colour(x + dx, y + dy) == of)) return false;
        return true;
    };
    struct Step {
        int length2, dx, dy;
    };
    std::vector<Step> found;
    for (int dy = -period_; dy <= period_; ++dy)
        for (int dx = 0; dx <= period_; ++dx)
            if ((dx > 0 || dy > 0) && keeps(dx, dy)) found.push_back({dx * dx + dy * dy, dx, dy});
    std::stable_sort(found.begin(), found.end(), [](const Step& a, const Step& b) { return a.length2 < b.length2; });
    const Step& u = found.front();
    const auto v = std::find_if(found.begin(), found.end(), [&](const Step& s) { return s.dx * u.dy != s.dy * u.dx; });
    return {u.dx, u.dy, v->dx, v->dy}; // the period itself is a step in both directions
}

} // namespace kasane
