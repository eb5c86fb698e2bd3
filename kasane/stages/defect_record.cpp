#include <kasane/stages/defect_record.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

void encode(Writer& w, const DefectList& list) {
    const auto places = list.places();
    w.put(list.empty() ? 0 : list.height()).put(static_cast<std::uint32_t>(places.size()));
    for (const auto& [x, y] : places)
        w.put(x).put(y);
}

bool decode(Reader& r, DefectList& list) {
    const int height = r.take<int>();
    if (height < 0 || height > 1000000) return false;
    const auto count = r.take<std::uint32_t>();
    if (count > r.left() / (2 * sizeof(int))) return false;
    std::vector<std::pair<int, int>> places(count);
    for (auto& [x, y] : places) {
        x = r.take<int>();
        y = r.take<int>();
        if (y < 0 || y >= height) return false;
    }
    if (!places.empty()) list = DefectList(height, places);
    return true;
}

namespace {
constexpr std::uint32_t kRecord = 0x4b440001; // kind and version of the bytes
}

std::string encode_defects(const DefectList& list, const DefectCounts& counts) {
    Writer w;
    w.put(kRecord);
    encode(w, list);
    w.put(counts);
    return std::move(w.bytes);
}

std::optional<std::pair<DefectList, DefectCounts>> decode_defects(const std::string& bytes) {
    try {
        Reader r(bytes);
        std::pair<DefectList, DefectCounts> out;
        if (r.take<std::uint32_t>() != kRecord || !decode(r, out.first)) return std::nullopt;
        r.get(out.second);
        if (!r.at_end()) return std::nullopt;
        return out;
    } catch (const DataError&) {
        return std::nullopt;
    }
}

} // namespace kasane
