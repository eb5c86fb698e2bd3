#include <kasane/stages/level_records.hpp>

#include <kasane/ledger/codec.hpp>
#include <kasane/stages/align_records.hpp>

namespace kasane {

void put(Writer& w, const Transform& t) {
    for (const double c : t.projective())
        w.put(c);
    const Affine& canvas = t.canvas();
    for (const double c : {canvas.a, canvas.b, canvas.c, canvas.d, canvas.e, canvas.f, t.shift().x, t.shift().y})
        w.put(c);
    put(w, t.lens());
    put(w, t.canvas_lens());
}

namespace {

void put(Writer& w, const SmoothMap& map) {
    const Lattice& l = map.lattice;
    w.put(map.value).put(map.slope_x).put(map.slope_y).put(l.step).put(l.columns).put(l.rows);
    for (const float c : l.coefficients)
        w.put(c);
}

SmoothMap take_map(Reader& r) {
    SmoothMap map;
    Lattice& l = map.lattice;
    r.get(map.value), r.get(map.slope_x), r.get(map.slope_y), r.get(l.step), r.get(l.columns), r.get(l.rows);
    constexpr int kMost = 1 << 12; // coefficients along a side
    if (l.columns < 0 || l.rows < 0 || l.columns > kMost || l.rows > kMost)
        throw DataError("a lattice has an absurd size", {}, {});
    for (int k = 0; k < l.columns * l.rows; ++k)
        l.coefficients.push_back(r.take<float>());
    return map;
}

} // namespace

std::string encode(const StackLevels& levels) {
    Writer w;
    w.put(levels.model).put(levels.background).put(levels.gradient).put(levels.steepest);
    w.put(static_cast<std::uint32_t>(levels.maps.size()));
    for (std::size_t k = 0; k < levels.maps.size(); ++k) {
        const LevelMap& map = levels.maps[k];
        w.put(map.centre.x).put(map.centre.y);
        put(w, map.scale);
        put(w, map.offset);
        const StarScale& s = levels.scales[k];
        w.put(s.scale).put(s.stars).put(s.error).put(s.slope_x).put(s.slope_y);
        w.put(levels.shares[k]);
    }
    return std::move(w.bytes);
}

std::optional<StackLevels> decode_levels(const std::string& bytes) {
    try {
        Reader r(bytes);
        StackLevels out;
        r.get(out.model), r.get(out.background), r.get(out.gradient), r.get(out.steepest);
        const auto frames = r.take<std::uint32_t>();
        for (std::uint32_t k = 0; k < frames; ++k) {
            LevelMap map;
            r.get(map.centre.x), r.get(map.centre.y);
            map.scale = take_map(r);
            map.offset = take_map(r);
            out.maps.push_back(std::move(map));
            StarScale s;
            r.get(s.scale), r.get(s.stars), r.get(s.error), r.get(s.slope_x), r.get(s.slope_y);
            out.scales.push_back(s);
            out.shares.push_back(r.take<double>());
        }
        return r.at_end() ? std::optional(std::move(out)) : std::nullopt;
    } catch (const DataError&) { // of another version
        return std::nullopt;
    }
}

} // namespace kasane
