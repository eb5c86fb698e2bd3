// What calibrates a light or a flat: what must agree, what is nearest, and what was near but not taken.
#include <kasane/pairing/pairer.hpp>

namespace kasane {

namespace {

constexpr double kLeastScale = 0.1, kMostScale = 10; // of a dark; beyond, its noise or its faintness would hurt
constexpr double kDoubling = 6;                      // degrees in which dark current doubles, as a rule
constexpr double kSharp = 1;                         // degrees: within it, temperatures count as the same
constexpr std::size_t kMostNearMisses = 3;           // told for each kind of master

bool angles_agree(const std::optional<double>& a, const std::optional<double>& b) {
    if (!a || !b) return true;
    const double d = std::fabs(std::remainder(*a - *b, 360.0));
    return d <= kSameAngle ||
           std::abs(d - 180) <= kSameAngle; // upside down after the meridian is the same camera angle
}

} // namespace

NearMiss Pairer::must_agree(const MasterPlan& m, const Exposure& e) const {
    const Exposure& c = first(m);
    NearMiss miss;
    std::vector<std::string> reasons;
    if (!c.camera.empty() && !e.camera.empty() && c.camera != e.camera)
        reasons.push_back(fmt::format("camera differs ({}, lights {})", c.camera, e.camera));
    if (!reasons.empty()) miss.allowed = "if it is the same camera, give its name with 'camera' in [[files]]";
    if (c.width != e.width || c.height != e.height) {
        reasons.push_back(fmt::format("size differs ({} x {}, lights {} x {})", c.width, c.height, e.width, e.height));
        miss.allowed = c.width == e.height && c.height == e.width
                           ? "if its pixels are turned, allowed with turn = 90 or turn = 270 in [[files]]"
                           : "";
    }
    if (c.binning_x != e.binning_x || c.binning_y != e.binning_y)
        reasons.push_back(
            fmt::format("binning differs ({}x{}, lights {}x{})", c.binning_x, c.binning_y, e.binning_x, e.binning_y));
    if (c.cfa != e.cfa) {
        reasons.push_back(fmt::format("colour filter array differs ({}, lights {})", c.cfa.empty() ? "none" : c.cfa,
                                      e.cfa.empty() ? "none" : e.cfa));
        if (miss.allowed.empty() && (c.cfa.empty() || e.cfa.empty()))
            miss.allowed = "if a header forgot it, give it with 'cfa' in [[files]] or [assume]";
    }
    if (!same_number(c.gain, e.gain))
        reasons.push_back(fmt::format("gain differs ({}, lights {})", number_text(c.gain), number_text(e.gain)));
    if (!same_number(c.offset, e.offset))
        reasons.push_back(fmt::format("offset differs ({}, lights {})", number_text(c.offset), number_text(e.offset)));
    for (std::size_t i = 0; i < reasons.size(); ++i)
        miss.reason += (i ? ", " : "") + reasons[i];
    if (reasons.size() > 1) miss.allowed.clear();
    return miss;
}

bool Pairer::sensors_agree(const MasterPlan& m, std::size_t e) const {
    const Exposure& c = first(m);
    const bool cameras = c.camera.empty() || all_[e].camera.empty() || sensor_[m.members.front()] == sensor_[e];
    return geometry_[m.members.front()] == geometry_[e] && cameras && same_number(c.gain, all_[e].gain) &&
           same_number(c.offset, all_[e].offset);
}

std::tuple<int, int, double, double, int> Pairer::nearness(const MasterPlan& m, const Exposure& e) const {
    const double warmth = difference(m.temperature, e.sensor_temperature()).value_or(0);
    const bool own_night = !e.night.empty() && first(m).night == e.night;
    return {warmth > kSharp ? 1 : 0, own_night ? 0 : 1, difference(m.time, e.time).value_or(1e12), warmth,
            m.existing ? 1 : 0};
}

void Pairer::tell_flat_offset(const MasterPlan& flat, Level level, const char* code, std::string text,
                              const char* remedy) {
    std::vector<std::string> files;
    for (const std::size_t i : flat.members)
        files.push_back(all_[i].path);
    std::sort(files.begin(), files.end());
    flat_findings_.emplace_back(flat.name, Finding{level, code, std::move(files), std::move(text), remedy});
}

void Pairer::choose_flat_offset(MasterPlan& flat) {
    const std::size_t i = flat.members.front();
    const Exposure& e = all_[i];
    const bool one_time = std::all_of(flat.members.begin(), flat.members.end(),
                                      [&](std::size_t k) { return exposure_fits(all_[k].seconds, e.seconds); });
    const auto same_time = [&](const MasterPlan& d) {
        return first(d).seconds && e.seconds && exposure_fits(first(d).seconds, e.seconds);
    };
    if (one_time) {
        flat.offset = nearest(Role::dark_flat, i, same_time);
        flat.offset_reason = "dark flat of the same exposure";
        if (flat.offset) return;
        flat.offset = nearest(Role::dark, i, same_time);
        flat.offset_reason = "dark of the same exposure";
        if (flat.offset) return;
    }
    flat.offset = nearest(Role::bias, i, [](const MasterPlan&) { return true; });
    flat.offset_reason = one_time ? "bias" : "bias (their exposure times differ)";
    if (flat.offset) return;
    flat.offset = nearest(Role::dark_flat, i, [](const MasterPlan&) { return true; });
    flat.offset_reason = "dark flat of another exposure";
    if (flat.offset) {
        tell_flat_offset(flat, Level::note, "flat-offset-approximate",
                         fmt::format("the flats {} have exposures of their own; a dark flat of {} removes their offset",
                                     flat.name, seconds_text(first(result_.masters[*flat.offset]).seconds)),
                         "Take bias frames at the same gain and offset");
        return;
    }
    flat.offset_level = options_.offset_level ? options_.offset_level : e.black_level;
    flat.offset_reason = flat.offset_level ? fmt::format("constant {:g} ADU", *flat.offset_level) : "none";
    if (flat.offset_level)
        tell_flat_offset(flat, Level::warning, "flat-offset-constant",
                         fmt::format("the flats {} have no dark flat and no bias that fits; the constant {:g} ADU is "
                                     "subtracted ({})",
                                     flat.name, *flat.offset_level,
                                     options_.offset_level ? "by the recipe" : "the camera's black level"),
                         "Take bias frames at the same gain and offset");
    else
        tell_flat_offset(
            flat, Level::warning, "flat-offset-missing",
            fmt::format("the flats {} keep their offset, because no dark flat and no bias fits them; they will "
                        "under-correct",
                        flat.name),
            "Take bias frames at the same gain and offset, or give offset_level in [pairing]");
}

std::string Pairer::light_key(std::size_t i) const {
    const Exposure& e = all_[i];
    return fmt::format("{}|{}|{}|{}|{}|{}", number_text(e.seconds), number_text(e.gain), number_text(e.offset), e.night,
                       e.sensor_temperature() ? fmt::format("{:.1f}", *e.sensor_temperature()) : "?",
                       e.rotator ? std::lround(*e.rotator) : 0);
}

Pairer::DarkChoice Pairer::choose_dark(std::size_t i) const {
    const Exposure& e = all_[i];
    const auto temperature = e.sensor_temperature();
    const auto same_time = [&](const MasterPlan& d) { return exposure_fits(first(d).seconds, e.seconds); };
    const auto same_warmth = [&](const MasterPlan& d) {
        return difference(d.temperature, temperature).value_or(0) <= options_.temperature_tolerance;
    };
    DarkChoice c;
    if (e.uncooled()) { // the nearest group, whichever it is
        for (std::size_t k = 0; k < result_.masters.size(); ++k) {
            const MasterPlan& m = result_.masters[k];
            if (m.role != Role::dark || !sensors_agree(m, i) || !same_time(m)) continue;
            const auto away = [&](std::size_t j) {
                return difference(result_.masters[j].temperature, temperature).value_or(1e3);
            };
            if (!c.dark || away(k) < away(*c.dark)) c.dark = k;
        }
        c.second = other_side(c.dark, i, same_time);
    } else {
        c.dark = nearest(Role::dark, i, [&](const MasterPlan& d) { return same_time(d) && same_warmth(d); });
    }
    c.bias = nearest(Role::bias, i, [](const MasterPlan&) { return true; });
    if (c.dark) {
        const MasterPlan& d = result_.masters[*c.dark];
        const bool near = same_warmth(d);
        c.kind = near ? DarkChoice::Kind::fits : DarkChoice::Kind::far_temperature;
        c.reason = fmt::format("dark of {}", seconds_text(first(d).seconds));
        if (d.temperature && temperature)
            c.reason += fmt::format(" at {:.0f} C{}", *d.temperature + 0.0,
                                    near ? "" : fmt::format(", the nearest to {:.0f} C", *temperature));
        if (near || !c.bias || !options_.scale_darks) {
            c.bias.reset();
            return c;
        }
        c.second.reset();
    }
    if (c.bias && options_.scale_darks) {
        const auto scale_of = [&](const MasterPlan& d) {
            const auto s = first(d).seconds;
            if (!s || !e.seconds || *s <= 0 || *e.seconds <= 0) return 0.0;
            const double warmer = d.temperature && temperature ? *temperature - *d.temperature : 0;
            return *e.seconds / *s * std::exp2(warmer / kDoubling);
        };
        std::optional<std::size_t> best;
        for (std::size_t k = 0; k < result_.masters.size(); ++k) {
            const MasterPlan& m = result_.masters[k];
            if (m.role != Role::dark || !sensors_agree(m, i)) continue;
            const double s = scale_of(m);
            if (s < kLeastScale || s > kMostScale) continue;
            const auto away = [&](std::size_t j) { return std::abs(std::log(scale_of(result_.masters[j]))); };
            if (!best || away(k) < away(*best)) best = k;
        }
        if (best) {
            const MasterPlan& d = result_.masters[*best];
            c.dark = best;
            c.scale = scale_of(d);
            c.kind = DarkChoice::Kind::scaled;
            c.reason = fmt::format("dark of {}{} scaled by {:.2f}", seconds_text(first(d).seconds),
                                   d.temperature ? fmt::format(" at {:.0f} C", *d.temperature + 0.0) : "", c.scale);
            return c;
        }
    }
    if (c.bias) {
        c.dark = c.bias;
        c.bias.reset();
        c.kind = DarkChoice::Kind::bias_only;
        c.reason = "bias only: no dark fits";
        return c;
    }
    c.offset_level = options_.offset_level ? options_.offset_level : e.black_level;
    c.kind = c.offset_level ? DarkChoice::Kind::constant : DarkChoice::Kind::none;
    c.reason = c.offset_level ? fmt::format("constant {:g} ADU", *c.offset_level) : "none";
    return c;
}

bool Pairer::filter_fits(const MasterPlan& m, const Exposure& e) const {
    return plain_letters(first(m).filter) == plain_letters(e.filter);
}

bool Pairer::filter_may_fit(const MasterPlan& m, std::size_t i) const {
    const Exposure& e = all_[i];
    if (first(m).filter.empty() == e.filter.empty()) return false;
    const auto known = filters_.find(geometry_[i]);
    const bool one_filter = known != filters_.end() && known->second.size() == 1;
    return one_filter || (first(m).filter.empty() && e.source(Field::filter).origin == Origin::path);
}

Pairer::FlatChoice Pairer::choose_flat(std::size_t i) const {
    const Exposure& e = all_[i];
    FlatChoice c;
    for (const bool by_guess : {false, true}) {
        const auto allowed = [&](const MasterPlan& f) {
            const bool own = first(f).night == e.night || first(f).night.empty() || e.night.empty();
            return (by_guess ? filter_may_fit(f, i) : filter_fits(f, e)) &&
                   (own || options_.flats_of_other_nights || f.existing);
        };
        c.flat = nearest(Role::flat, i,
                         [&](const MasterPlan& f) { return allowed(f) && angles_agree(first(f).rotator, e.rotator); });
        if (!c.flat) {
            c.flat = nearest(Role::flat, i, allowed);
            c.turned = c.flat.has_value();
        }
        c.filter_unknown = c.flat && by_guess;
        if (c.flat) break;
    }
    if (!c.flat) return c;
    const Exposure& f = first(result_.masters[*c.flat]);
    if (f.night == e.night || f.night.empty() || e.night.empty())
        c.reason = f.night.empty() || e.night.empty() ? "flat of the same filter, its night is not known"
                                                      : "flat of the same night and filter";
    else {
        c.reason = fmt::format("flat of another night, {}", f.night);
        c.other_night = true;
    }
    if (c.filter_unknown)
        c.reason += fmt::format(", the filter of the {} is not known", f.filter.empty() ? "flat" : "lights");
    if (c.turned) c.reason += fmt::format(", at another camera angle ({:g}, lights {:g})", *f.rotator, *e.rotator);
    return c;
}

std::vector<NearMiss> Pairer::near_misses(std::size_t i, const DarkChoice& dark, const FlatChoice& flat) const {
    const Exposure& e = all_[i];
    std::vector<NearMiss> darks, flats;
    for (std::size_t k = 0; k < result_.masters.size(); ++k) {
        const MasterPlan& m = result_.masters[k];
        if (k == dark.dark || k == dark.bias || k == flat.flat) continue;
        if (m.role != Role::dark && m.role != Role::flat && m.role != Role::bias) continue;
        if (m.role == Role::bias && dark.dark) continue; // a dark is better, nothing was refused
        // Other filters' and other nights' flats are no near miss where the own are there.
        if (m.role == Role::flat && flat.flat &&
            (!filter_fits(m, e) || (!flat.other_night && first(m).night != e.night)))
            continue;
        NearMiss miss = must_agree(m, e);
        miss.master = k;
        const bool agrees = miss.reason.empty();
        if (m.role == Role::flat && agrees) {
            if (!filter_fits(m, e)) {
                miss.reason =
                    fmt::format("filter differs ({}, lights {})", first(m).filter.empty() ? "none" : first(m).filter,
                                e.filter.empty() ? "none" : e.filter);
                miss.allowed = "if a header has it wrong, give 'filter' in [[files]]";
            } else if (first(m).night != e.night) {
                miss.reason = fmt::format("night differs ({}, lights {})", first(m).night, e.night);
                miss.allowed = options_.flats_of_other_nights ? "a nearer one is there"
                                                              : "allowed with flats_of_other_nights = true";
            } else if (!angles_agree(first(m).rotator, e.rotator)) {
                miss.reason = fmt::format("camera angle differs ({:g}, lights {:g})", *first(m).rotator, *e.rotator);
            }
        } else if (m.role == Role::dark && agrees) {
            std::vector<std::string> reasons;
            if (!exposure_fits(first(m).seconds, e.seconds))
                reasons.push_back(fmt::format("exposure differs from {}", seconds_text(e.seconds)));
            const auto away = difference(m.temperature, e.sensor_temperature());
            if (away && *away > options_.temperature_tolerance)
                reasons.push_back(fmt::format("temperature differs by {:.1f} C", *away));
            if (reasons.empty()) continue; // it fits too; a nearer one was taken
            for (std::size_t r = 0; r < reasons.size(); ++r)
                miss.reason += (r ? ", " : "") + reasons[r];
            // An uncooled camera's other groups are told only where the nearest is none too near.
            if (e.uncooled() && dark.kind == DarkChoice::Kind::fits && exposure_fits(first(m).seconds, e.seconds))
                continue;
            const bool bias = nearest(Role::bias, i, [](const MasterPlan&) { return true; }).has_value();
            miss.allowed = !bias                  ? "scaling it would need a bias of the same gain and offset"
                           : options_.scale_darks ? "allowed with scaling, a bias is present; a better one is there"
                                                  : "allowed with scaling, a bias is present (scale_darks = true)";
            if (bias && dark.kind == DarkChoice::Kind::bias_only && options_.scale_darks)
                miss.allowed = "too far to be scaled";
        }
        if (miss.reason.empty()) continue;
        (m.role == Role::flat ? flats : darks).push_back(std::move(miss));
    }
    for (auto* list : {&darks, &flats}) {
        std::stable_sort(list->begin(), list->end(), [](const NearMiss& a, const NearMiss& b) {
            return std::count(a.reason.begin(), a.reason.end(), '(') <
                   std::count(b.reason.begin(), b.reason.end(), '(');
        });
        if (list->size() > kMostNearMisses) list->resize(kMostNearMisses);
    }
    darks.insert(darks.end(), flats.begin(), flats.end());
    return darks;
}

} // namespace kasane
