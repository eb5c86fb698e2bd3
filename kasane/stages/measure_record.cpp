#include <kasane/stages/measure_record.hpp>

#include <kasane/base/error.hpp>
#include <kasane/ledger/codec.hpp>
#include <kasane/stages/defect_record.hpp>

#include <algorithm>
#include <cstdint>

namespace kasane {

namespace {

constexpr std::uint32_t kRecord = 0x4b530009; // kind and version of the bytes

void encode(Writer& w, const Measures& m) {
    w.put(m.count).put(m.threshold).put(m.fwhm).put(m.eccentricity).put(m.angle).put(m.alignment);
    w.put(m.background).put(m.noise).put(m.noise_from_level).put(m.flat_noise_share);
    w.put(m.mesh.cell)
        .put(m.mesh.global_level)
        .put(m.mesh.global_sigma)
        .put(m.mesh.texture)
        .put(m.mesh.level.width())
        .put(m.mesh.level.height());
    const SkyMeans& means = m.mesh.means;
    w.put(means.cell).put(means.width).put(means.height).put(means.values.width()).put(means.values.height());
    for (const Image* i : {&m.mesh.level, &m.mesh.sigma, &means.values}) // an empty one has no pixels
        for (const float v : i->pixels())
            w.put(v);
    w.put(static_cast<std::uint32_t>(m.stars.size()));
    for (const Star& s : m.stars) {
        w.put(s.x).put(s.y);
        for (const double v : {s.flux, s.flux_sigma, s.peak, s.fwhm, s.eccentricity, s.angle, s.position_sigma})
            w.put(static_cast<float>(v));
        w.put(s.saturated);
    }
}

void encode(Writer& w, const OwnCorrections& own) {
    for (const DefectList* list : {&own.defects, &own.spilled})
        encode(w, *list);
    for (const auto* lines : {&own.rows, &own.columns}) {
        w.put(static_cast<std::uint32_t>(lines->size()));
        for (const float v : *lines)
            w.put(v);
    }
}

/// Whether so many pixels can follow.
bool is_size(const Reader& r, int width, int height, std::uint64_t planes) {
    if (width < 1 || height < 1) return false;
    const auto pixels = static_cast<std::uint64_t>(width) * static_cast<std::uint64_t>(height);
    return pixels <= r.left() / (planes * sizeof(float));
}

/// False for sizes that cannot be.
bool decode(Reader& r, Measures& m) {
    for (double* v :
         {&m.count, &m.threshold, &m.fwhm, &m.eccentricity, &m.angle, &m.alignment, &m.background, &m.noise})
        *v = r.take<double>();
    m.noise_from_level = r.take<bool>();
    m.flat_noise_share = r.take<double>();
    m.mesh.cell = r.take<int>();
    m.mesh.global_level = r.take<float>();
    m.mesh.global_sigma = r.take<float>();
    m.mesh.texture = r.take<float>();
    const int w = r.take<int>(), h = r.take<int>();
    SkyMeans& means = m.mesh.means;
    means.cell = r.take<int>(), means.width = r.take<int>(), means.height = r.take<int>();
    const int mw = r.take<int>(), mh = r.take<int>();
    if (means.cell < 1 || !is_size(r, w, h, 2) || ((mw != 0 || mh != 0) && !is_size(r, mw, mh, 1))) return false;
    m.mesh.level = m.mesh.sigma = Image(w, h);
    if (mw > 0 && mh > 0) means.values = Image(mw, mh);
    for (Image* i : {&m.mesh.level, &m.mesh.sigma, &means.values})
        for (float& v : i->pixels())
            v = r.take<float>();
    const auto n = r.take<std::uint32_t>();
    for (std::uint32_t i = 0; i < n; ++i) {
        Star s;
        s.x = r.take<double>();
        s.y = r.take<double>();
        for (double* v : {&s.flux, &s.flux_sigma, &s.peak, &s.fwhm, &s.eccentricity, &s.angle, &s.position_sigma})
            *v = r.take<float>();
        s.saturated = r.take<bool>();
        m.stars.push_back(s);
    }
    return true;
}

bool decode(Reader& r, OwnCorrections& own) {
    if (!decode(r, own.defects) || !decode(r, own.spilled)) return false;
    for (auto* lines : {&own.rows, &own.columns}) {
        const auto n = r.take<std::uint32_t>();
        if (n > r.left() / sizeof(float)) return false;
        lines->resize(n);
        for (float& v : *lines)
            v = r.take<float>();
    }
    return true;
}

} // namespace

std::string encode_measures(const ExposureMeasures& m) {
    Writer w;
    w.put(kRecord).put(static_cast<std::uint32_t>(m.planes.size()));
    for (const Measures& plane : m.planes)
        encode(w, plane);
    encode(w, m.own);
    w.put(m.pile.top).put(m.pile.piled);
    w.put(m.width).put(m.height).put(m.darkened_edge).put(m.preview_scale);
    w.put(static_cast<std::uint32_t>(m.streaks.size()));
    for (const Streak& s : m.streaks)
        w.put(s);
    for (const float v : m.saturated.pixels()) // as large as the mesh
        w.put(v);
    return std::move(w.bytes);
}

std::shared_ptr<const ExposureMeasures> decode_measures(const std::string& bytes) {
    try {
        Reader r(bytes);
        if (r.take<std::uint32_t>() != kRecord) return nullptr;
        auto m = std::make_shared<ExposureMeasures>();
        m->planes.resize(std::min(r.take<std::uint32_t>(), 3u));
        for (Measures& plane : m->planes)
            if (!decode(r, plane)) return nullptr;
        if (m->planes.empty() || !decode(r, m->own)) return nullptr;
        m->pile.top = r.take<float>();
        m->pile.piled = r.take<bool>();
        m->width = r.take<int>();
        m->height = r.take<int>();
        m->darkened_edge = r.take<double>();
        m->preview_scale = r.take<PreviewScale>();
        constexpr std::uint32_t kMostStreaks = 1000;
        m->streaks.resize(std::min(r.take<std::uint32_t>(), kMostStreaks));
        for (Streak& s : m->streaks)
            s = r.take<Streak>();
        m->saturated = Image(m->main().mesh.level.width(), m->main().mesh.level.height());
        for (float& v : m->saturated.pixels())
            v = r.take<float>();
        return r.at_end() ? m : nullptr;
    } catch (const DataError&) {
        return nullptr;
    }
}

} // namespace kasane
