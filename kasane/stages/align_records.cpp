#include <kasane/stages/align_records.hpp>

#include <kasane/base/error.hpp>
#include <kasane/ledger/codec.hpp>

#include <array>
#include <memory>
#include <utility>

namespace kasane {

void put(Writer& w, const std::shared_ptr<const Lens>& lens) {
    w.put(static_cast<std::uint8_t>(lens != nullptr));
    if (!lens) return;
    w.put(lens->centre.x).put(lens->centre.y).put(lens->radius);
    for (const double k : lens->radial)
        w.put(k);
    for (const double p : lens->decentring)
        w.put(p);
    w.put(lens->stereographic);
}

namespace {

std::shared_ptr<const Lens> take_lens(Reader& r) {
    if (!r.take<std::uint8_t>()) return nullptr;
    Lens l;
    r.get(l.centre.x), r.get(l.centre.y), r.get(l.radius);
    for (double& k : l.radial)
        r.get(k);
    for (double& p : l.decentring)
        r.get(p);
    r.get(l.stereographic);
    return std::make_shared<const Lens>(l);
}

void put(Writer& w, const Model& m) {
    w.put(m.mapping).put(m.optics);
}
Model take_model(Reader& r) {
    Model m;
    r.get(m.mapping), r.get(m.optics);
    return m;
}

} // namespace

std::string encode(const Outcome& o) {
    Writer w;
    w.put(o.hindrance);
    if (!o) return std::move(w.put(o.text).bytes);
    for (const double c : o->to_frame.projective())
        w.put(c);
    put(w, o->to_frame.lens());
    put(w, o->to_frame.canvas_lens());
    put(w, o->model);
    w.put(o->matched).put(o->rms).put(o->share).put(o->expected).put(o->order).put(o->way);
    return std::move(w.bytes);
}

std::optional<Outcome> decode_outcome(const std::string& bytes) {
    try {
        Reader r(bytes);
        Outcome out;
        r.get(out.hindrance);
        if (out.hindrance != Hindrance::none) {
            r.get(out.text);
        } else {
            std::array<double, 9> matrix{};
            for (double& c : matrix)
                r.get(c);
            const auto lens = take_lens(r), canvas_lens = take_lens(r);
            Registration found;
            found.to_frame = Transform(matrix, lens, canvas_lens);
            found.model = take_model(r);
            r.get(found.matched), r.get(found.rms), r.get(found.share), r.get(found.expected), r.get(found.order);
            r.get(found.way);
            out.result = found;
        }
        return r.at_end() ? std::optional(std::move(out)) : std::nullopt;
    } catch (const DataError&) {
        return std::nullopt;
    }
}

std::string encode(const Solved& solved) {
    Writer w;
    w.put(solved.basis).put(solved.lights).put(static_cast<std::uint32_t>(solved.rigs.size()));
    for (const auto& [name, o] : solved.rigs) {
        w.put(name);
        put(w, o.model);
        put(w, o.lens);
        w.put(o.frames).put(o.stars).put(o.before).put(o.after).put(o.expected).put(o.corner);
    }
    return std::move(w.bytes);
}

std::optional<Solved> decode_solved(const std::string& bytes) {
    try {
        Reader r(bytes);
        Solved out;
        r.get(out.basis), r.get(out.lights);
        for (auto n = r.take<std::uint32_t>(); n > 0; --n) {
            std::string name;
            r.get(name);
            RigOptics o;
            o.model = take_model(r);
            o.lens = take_lens(r);
            r.get(o.frames), r.get(o.stars), r.get(o.before), r.get(o.after), r.get(o.expected), r.get(o.corner);
            out.rigs.emplace(name, o);
        }
        return r.at_end() ? std::optional(std::move(out)) : std::nullopt;
    } catch (const DataError&) {
        return std::nullopt;
    }
}

} // namespace kasane
