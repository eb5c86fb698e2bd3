#include <kasane/base/spelling.hpp>

#include <algorithm>

namespace kasane {

namespace {

std::size_t edits(const std::string& a, const std::string& b) {
    std::vector<std::vector<std::size_t>> d(a.size() + 1, std::vector<std::size_t>(b.size() + 1));
    for (std::size_t i = 0; i <= a.size(); ++i)
        for (std::size_t j = 0; j <= b.size(); ++j) {
            if (i == 0 || j == 0) {
                d[i][j] = i + j;
                continue;
            }
            d[i][j] = std::min({d[i - 1][j] + 1, d[i][j - 1] + 1, d[i - 1][j - 1] + (a[i - 1] != b[j - 1])});
            if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1])
                d[i][j] = std::min(d[i][j], d[i - 2][j - 2] + 1);
        }
    return d[a.size()][b.size()];
}

} // namespace

std::string nearest_word(const std::string& wrong, const std::vector<std::string>& right) {
    constexpr std::size_t kLooked = 60; // letters
    const std::string word = wrong.substr(0, kLooked);
    std::string best;
    std::size_t least = 1000;
    for (const std::string& r : right)
        if (const std::size_t e = edits(word, r); e < least) {
            least = e;
            best = r;
        }
    return least <= std::max<std::size_t>(3, word.size() / 2) ? best : "";
}

} // namespace kasane
