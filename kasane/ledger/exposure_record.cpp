#include <kasane/ledger/exposure_record.hpp>

#include <kasane/base/error.hpp>
#include <kasane/ledger/codec.hpp>

#include <utility>

namespace kasane {

namespace {

constexpr std::uint32_t kRecord = 0x4b580005; // kind and version of a record's bytes
constexpr std::uint32_t kLook = 0x4b4c0002;   // the same for a look

template <class Visitor, class E>
void visit(Visitor& v, E& e) {
    v(e.format), v(e.linear), v(e.width), v(e.height), v(e.planes), v(e.bits), v(e.role), v(e.role_confidence);
    v(e.is_master), v(e.made_by_kasane), v(e.seconds), v(e.start), v(e.start_local), v(e.night), v(e.gain);
    v(e.gain_is_iso), v(e.offset), v(e.electrons_per_adu), v(e.temperature), v(e.temperature_set), v(e.binning_x);
    v(e.binning_y), v(e.filter), v(e.cfa), v(e.camera), v(e.telescope), v(e.target), v(e.focal_length_mm),
        v(e.pixel_um);
    v(e.saturation), v(e.black_level), v(e.right_ascension), v(e.declination), v(e.latitude), v(e.longitude);
    v(e.orientation), v(e.pier_side), v(e.rotator), v(e.turn), v(e.inputs);
}

void put_world(Writer& w, const WorldCoordinates& c) {
    w.put(c.pixel.x).put(c.pixel.y).put(c.sky.ra).put(c.sky.dec).put(c.cd).put(c.order);
    w.put(c.order > 0);
    if (c.order > 0) w.put(c.gain_x).put(c.gain_y);
    w.put(c.frame).put(c.equinox);
}

WorldCoordinates take_world(Reader& r) {
    WorldCoordinates c;
    r.get(c.pixel.x), r.get(c.pixel.y), r.get(c.sky.ra), r.get(c.sky.dec), r.get(c.cd), r.get(c.order);
    if (c.order < 0 || c.order > WorldCoordinates::kMostOrder) throw DataError("the record is damaged", {}, {});
    if (r.take<bool>()) r.get(c.gain_x), r.get(c.gain_y);
    r.get(c.frame), r.get(c.equinox);
    return c;
}

} // namespace

std::string encode(const Exposure& e) {
    Writer w;
    w.put(kRecord);
    const auto put = [&](const auto& value) { w.put(value); };
    visit(put, e);
    w.put(e.world != nullptr);
    if (e.world) put_world(w, *e.world);
    w.put(static_cast<std::uint32_t>(e.sources.size()));
    for (const auto& [field, source] : e.sources)
        w.put(field).put(source.origin).put(source.detail);
    for (const auto* list : {&e.problems, &e.input_frames}) {
        w.put(static_cast<std::uint32_t>(list->size()));
        for (const std::string& p : *list)
            w.put(p);
    }
    return std::move(w.bytes);
}

std::optional<Exposure> decode_exposure(const std::string& bytes) {
    try {
        Reader r(bytes);
        if (r.take<std::uint32_t>() != kRecord) return std::nullopt;
        Exposure e;
        const auto get = [&](auto& value) { r.get(value); };
        visit(get, e);
        if (r.take<bool>()) e.world = std::make_shared<const WorldCoordinates>(take_world(r));
        for (auto n = r.take<std::uint32_t>(); n > 0; --n) {
            const auto field = r.take<Field>();
            const auto origin = r.take<Origin>();
            e.sources.emplace_back(field, Source{origin, r.take<std::string>()});
        }
        for (auto* list : {&e.problems, &e.input_frames})
            for (auto n = r.take<std::uint32_t>(); n > 0; --n)
                list->push_back(r.take<std::string>());
        return r.at_end() ? std::optional(std::move(e)) : std::nullopt;
    } catch (const DataError&) {
        return std::nullopt;
    }
}

std::string encode(const Look& look, bool whole) {
    Writer w;
    w.put(kLook);
    w.put(whole);
    w.put(look);
    return w.bytes;
}

std::optional<Look> decode_look(const std::string& bytes, bool whole) {
    try {
        Reader r(bytes);
        if (r.take<std::uint32_t>() != kLook) return std::nullopt;
        if (!r.take<bool>() && whole) return std::nullopt;
        Look look;
        r.get(look);
        return look;
    } catch (const DataError&) {
        return std::nullopt;
    }
}

} // namespace kasane
