#include <kasane/stages/rejected_records.hpp>

#include <kasane/ledger/codec.hpp>
#include <kasane/ledger/keys.hpp>

#include <algorithm>
#include <limits>
#include <numeric>

namespace kasane {

namespace {

constexpr int kSteps = 15;

std::string key_of(const Exposure& light) {
    return Key("rejected pixels of a light").add(light.identity).result();
}

/// What of the squares is beyond what is rejected everywhere, in steps.
std::vector<std::uint8_t> steps_of(const std::vector<std::uint8_t>& shares) {
    const double mean = shares.empty() ? 0
                                       : static_cast<double>(std::accumulate(shares.begin(), shares.end(), 0L)) /
                                             static_cast<double>(shares.size());
    const double least = std::clamp(4 * mean, 0.03 * RejectedCells::kUnit, 0.5 * RejectedCells::kUnit);
    std::vector<std::uint8_t> out;
    for (const std::uint8_t s : shares)
        out.push_back(s < least ? 0
                                : static_cast<std::uint8_t>(std::max(1.0, kSteps * s / RejectedCells::kUnit + 0.5)));
    return out;
}

} // namespace

void remember_rejected(Session& s, const Exposure& light, const RejectedCells* cells) {
    Writer w;
    if (cells) {
        w.put(cells->cell).put(cells->columns).put(cells->rows);
        const std::vector<std::uint8_t> low = steps_of(cells->low), high = steps_of(cells->high);
        for (std::size_t k = 0; k < low.size();) { // runs of the same
            std::size_t end = k + 1;
            while (end < low.size() && end - k < std::numeric_limits<std::uint16_t>::max() && low[end] == low[k] &&
                   high[end] == high[k])
                ++end;
            w.put(static_cast<std::uint16_t>(end - k)).put(static_cast<std::uint8_t>(low[k] << 4 | high[k]));
            k = end;
        }
    }
    s.ledger.set_fact(key_of(light), w.bytes);
}

std::optional<RejectedCells> remembered_rejected(const Session& s, const Exposure& light) {
    const auto bytes = s.ledger.fact(key_of(light));
    if (!bytes || bytes->empty()) return std::nullopt;
    try {
        Reader r(*bytes);
        RejectedCells out;
        r.get(out.cell), r.get(out.columns), r.get(out.rows);
        constexpr int kMost = 1 << 14;
        if (out.cell < 1 || out.columns < 1 || out.rows < 1 || out.columns > kMost || out.rows > kMost)
            return std::nullopt;
        const auto size = static_cast<std::size_t>(out.columns) * static_cast<std::size_t>(out.rows);
        while (out.low.size() < size) {
            const auto count = r.take<std::uint16_t>();
            const auto both = r.take<std::uint8_t>();
            if (count == 0 || out.low.size() + count > size) return std::nullopt;
            const auto share = [](int step) { return static_cast<std::uint8_t>(step * RejectedCells::kUnit / kSteps); };
            out.low.insert(out.low.end(), count, share(both >> 4));
            out.high.insert(out.high.end(), count, share(both & 15));
        }
        return out;
    } catch (const DataError&) { // of another version
        return std::nullopt;
    }
}

} // namespace kasane
