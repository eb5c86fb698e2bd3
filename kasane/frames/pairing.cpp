#include <kasane/frames/pairing.hpp>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fmt/format.h>
#include <map>
#include <set>

namespace kasane {

namespace {

bool agree(const std::optional<double>& a, const std::optional<double>& b) {
    return !a || !b || std::abs(*a - *b) < 1e-6 * std::max(1.0, std::abs(*a));
}

/// What frames must have in common to calibrate one another.
bool same_sensor(const Exposure& a, const Exposure& b) {
    return sensor_key(a) == sensor_key(b) && agree(a.gain, b.gain) && agree(a.offset, b.offset);
}

bool exposure_fits(const Exposure& a, const Exposure& b, double tolerance) {
    if (!a.seconds || !b.seconds) return true;
    return std::abs(*a.seconds - *b.seconds) <= tolerance * std::max(*a.seconds, *b.seconds) + 1e-3;
}

double temperature_distance(const Exposure& a, const Exposure& b) {
    const auto ta = a.sensor_temperature(), tb = b.sensor_temperature();
    return ta && tb ? std::abs(*ta - *tb) : 0;
}

/// Days between two nights written YYYY-MM-DD, roughly; only their order of nearness matters.
double night_distance(const std::string& a, const std::string& b) {
    if (a == b) return 0;
    int y = 0, m = 0, d = 0, v = 0, n = 0, e = 0;
    if (std::sscanf(a.c_str(), "%d-%d-%d", &y, &m, &d) != 3 || std::sscanf(b.c_str(), "%d-%d-%d", &v, &n, &e) != 3)
        return 1e6;
    return std::abs((y - v) * 372.0 + (m - n) * 31.0 + (d - e));
}

std::string seconds_text(const Exposure& e) {
    return e.seconds ? fmt::format("{:g} s", *e.seconds) : "unknown exposure";
}

class Pairer {
public:
    Pairer(const std::vector<Exposure>& exposures, const PairingOptions& options) : all_(exposures), options_(options) {
        for (std::size_t i = 0; i < all_.size(); ++i)
            order_.push_back(i);
        std::sort(order_.begin(), order_.end(), [&](auto a, auto b) { return all_[a].path < all_[b].path; });
    }

    Pairing run() {
        for (const std::size_t i : order_)
            place(i);
        name_masters();
        for (MasterPlan& m : result_.masters)
            if (m.role == Role::flat && !m.existing) choose_flat_offset(m);
        pair_lights();
        report();
        return std::move(result_);
    }

private:
    const Exposure& first(const MasterPlan& m) const { return all_[m.members.front()]; }

    void finding(Level level, std::string code, std::vector<std::string> files, std::string text, std::string remedy) {
        result_.findings.push_back({level, std::move(code), std::move(files), std::move(text), std::move(remedy)});
    }

    void place(std::size_t i) {
        const Exposure& e = all_[i];
        if (e.made_by_kasane && e.role == Role::light) return; // a result, not an input
        if (e.role == Role::unknown) {
            unplaced_.push_back(e.path);
        } else if (e.planes != 1) {
            finding(Level::warning, "colour-image", {e.path},
                    fmt::format("it has {} planes; one is expected of a raw exposure", e.planes),
                    "Give the raw exposure, not a processed picture");
        } else if (e.role == Role::light) {
            if (e.is_master) {
                finding(Level::note, "master-light", {e.path}, "it is a combination of lights already and is not used",
                        "");
            } else if (!e.cfa.empty()) {
                cfa_.push_back(e.path);
            } else {
                place_light(i);
            }
        } else {
            place_calibration(i);
        }
    }

    void place_calibration(std::size_t i) {
        const Exposure& e = all_[i];
        if (!e.is_master)
            for (MasterPlan& m : result_.masters)
                if (!m.existing && m.role == e.role && belongs(first(m), e)) {
                    m.members.push_back(i);
                    return;
                }
        result_.masters.push_back({e.role, {}, {i}, {}, {}, e.is_master});
    }

    bool belongs(const Exposure& a, const Exposure& b) const {
        if (!same_sensor(a, b)) return false;
        if (temperature_distance(a, b) > options_.temperature_tolerance && a.role != Role::flat) return false;
        switch (a.role) {
        case Role::dark:
        case Role::dark_flat:
            return exposure_fits(a, b, options_.exposure_tolerance);
        case Role::flat:
            return a.filter == b.filter && a.night == b.night;
        default:
            return true;
        }
    }

    void place_light(std::size_t i) {
        const Exposure& e = all_[i];
        for (StackPlan& s : result_.stacks)
            if (file_safe(s.target) == file_safe(e.target) && s.filter == e.filter && s.sensor == sensor_key(e)) {
                s.lights.push_back({i, {}, {}, {}, {}});
                return;
            }
        result_.stacks.push_back({{}, e.target, e.filter, sensor_key(e), {{i, {}, {}, {}, {}}}});
    }

    void name_masters() {
        std::set<std::string> taken;
        const auto unique = [&](std::string name) {
            std::string candidate = name;
            for (int n = 2; !taken.insert(candidate).second; ++n)
                candidate = fmt::format("{}-{}", name, n);
            return candidate;
        };
        for (MasterPlan& m : result_.masters) {
            const Exposure& e = first(m);
            std::string name(m.role == Role::dark_flat ? "dark-flat" : role_name(m.role));
            if (m.role == Role::flat) {
                if (!e.filter.empty()) name += "-" + e.filter;
                if (!e.night.empty()) name += "-" + e.night;
            } else if (m.role != Role::bias && e.seconds) {
                name += fmt::format("-{:g}s", *e.seconds);
            }
            if (const auto t = e.sensor_temperature(); t && m.role != Role::flat)
                name += fmt::format("_{:g}C", std::round(*t));
            m.name = unique(file_safe(name));
        }
        taken.clear();
        for (StackPlan& s : result_.stacks) {
            std::string name = s.target.empty() ? "light" : s.target;
            if (!s.filter.empty()) name += "-" + s.filter;
            s.name = unique(file_safe(name));
        }
    }

    /// The best master of a role for an exposure: least cost; infinite cost means it does not fit.
    template <class Cost>
    std::optional<std::size_t> best(Role role, const Exposure& e, Cost cost) const {
        std::optional<std::size_t> chosen;
        double least = 1e30;
        for (std::size_t i = 0; i < result_.masters.size(); ++i) {
            const MasterPlan& m = result_.masters[i];
            if (m.role != role || !same_sensor(first(m), e)) continue;
            const double c =
                cost(first(m)) - (m.existing ? 0 : 1e-9); // all else equal, the frames rather than somebody's master
            if (c < least) {
                least = c;
                chosen = i;
            }
        }
        return chosen;
    }

    void choose_flat_offset(MasterPlan& flat) {
        const Exposure& e = first(flat);
        flat.offset = best(Role::dark_flat, e, [&](const Exposure& d) {
            return exposure_fits(d, e, options_.exposure_tolerance) ? temperature_distance(d, e) : 1e30;
        });
        if (flat.offset) {
            flat.offset_reason = "dark flat of the same exposure";
            return;
        }
        flat.offset = best(Role::dark, e, [&](const Exposure& d) {
            return d.seconds && e.seconds && exposure_fits(d, e, options_.exposure_tolerance)
                       ? temperature_distance(d, e)
                       : 1e30;
        });
        if (flat.offset) {
            flat.offset_reason = "dark of the same exposure";
            return;
        }
        flat.offset = best(Role::bias, e, [&](const Exposure& b) { return temperature_distance(b, e); });
        flat.offset_reason = flat.offset ? "bias" : "none: no dark flat and no bias fits";
        if (!flat.offset)
            finding(Level::warning, "flat-offset-missing", {e.path},
                    fmt::format("the flats {} keep their offset, because no dark flat and no bias fits them; they will "
                                "under-correct",
                                flat.name),
                    "Take bias frames at the same gain and offset");
    }

    void pair_lights() {
        for (StackPlan& s : result_.stacks) {
            std::vector<std::string> without_dark, without_flat, other_night, bias_only;
            for (LightPlan& light : s.lights) {
                const Exposure& e = all_[light.exposure];
                light.dark = best(Role::dark, e, [&](const Exposure& d) {
                    const double away = temperature_distance(d, e);
                    return exposure_fits(d, e, options_.exposure_tolerance) && away <= options_.temperature_tolerance
                               ? away
                               : 1e30;
                });
                if (light.dark) {
                    light.dark_reason = fmt::format("dark of {}", seconds_text(e));
                } else {
                    light.dark = best(Role::bias, e, [&](const Exposure& b) { return temperature_distance(b, e); });
                    light.dark_reason = light.dark ? "bias only: no dark fits" : "none";
                    (light.dark ? bias_only : without_dark).push_back(e.path);
                }
                light.flat = best(Role::flat, e, [&](const Exposure& f) {
                    return f.filter == e.filter ? night_distance(f.night, e.night) : 1e30;
                });
                if (!light.flat) {
                    light.flat_reason = "none";
                    without_flat.push_back(e.path);
                } else if (first(result_.masters[*light.flat]).night == e.night) {
                    light.flat_reason = "flat of the same night and filter";
                } else {
                    light.flat_reason =
                        fmt::format("flat of another night, {}", first(result_.masters[*light.flat]).night);
                    other_night.push_back(e.path);
                }
            }
            const std::string lights = "{} lights of " + s.name + " ";
            const auto tell = [&](const std::vector<std::string>& files, const char* code, const std::string& text,
                                  const char* remedy) {
                if (!files.empty())
                    finding(Level::warning, code, files, fmt::format(fmt::runtime(lights), files.size()) + text,
                            remedy);
            };
            const Exposure& e = all_[s.lights.front().exposure];
            tell(without_dark, "dark-missing", "have neither dark nor bias: offset, glow and hot pixels stay in",
                 "Take darks of the same exposure, gain and temperature");
            tell(bias_only, "dark-missing",
                 fmt::format("have no dark of {} at their temperature and gain; the bias alone is subtracted, hot "
                             "pixels stay in",
                             seconds_text(e)),
                 "Take darks of the same exposure, gain and temperature");
            tell(without_flat, "flat-missing",
                 fmt::format("have no flat of filter {}: vignetting and dust stay in",
                             s.filter.empty() ? "(none)" : s.filter),
                 "Take flats of this filter with the same camera and binning");
            tell(other_night, "flat-of-another-night", "use flats of another night: dust may have moved",
                 "Take flats every night");
        }
    }

    void report() {
        if (!unplaced_.empty())
            finding(
                Level::warning, "role-unknown", unplaced_,
                fmt::format("{} files were not placed: neither header, folder name nor file name says what they are",
                            unplaced_.size()),
                "Put them into folders named lights, darks, flats or bias");
        if (!cfa_.empty())
            finding(Level::blocker, "colour-filter-array", cfa_,
                    fmt::format("{} lights come from a colour sensor, which this version does not yet integrate; they "
                                "are set aside",
                                cfa_.size()),
                    "Use exposures of a mono camera");
        std::map<std::string, std::map<std::string, std::vector<std::string>>> sizes; // by target, then by size
        for (const StackPlan& s : result_.stacks)
            for (const LightPlan& l : s.lights) {
                const Exposure& e = all_[l.exposure];
                sizes[file_safe(s.target)][fmt::format("{} x {}", e.width, e.height)].push_back(e.path);
            }
        for (const auto& [target, by_size] : sizes) {
            if (by_size.size() < 2) continue;
            const auto fewest = std::min_element(by_size.begin(), by_size.end(),
                                                 [](auto& a, auto& b) { return a.second.size() < b.second.size(); });
            std::string list;
            for (const auto& [size, files] : by_size)
                list += fmt::format("{}{} of {} pixels", list.empty() ? "" : ", ", files.size(), size);
            finding(Level::warning, "light-sizes-differ", fewest->second,
                    fmt::format("the lights of {} have different sizes ({}); each size becomes a stack of its own",
                                target.empty() ? "this folder" : target, list),
                    "Check binning and cropping if they were meant to be one stack");
        }
    }

    const std::vector<Exposure>& all_;
    PairingOptions options_;
    std::vector<std::size_t> order_;
    Pairing result_;
    std::vector<std::string> unplaced_, cfa_;
};

} // namespace

std::string file_safe(const std::string& text) {
    std::string out;
    for (const unsigned char c : text) {
        const bool plain = std::isalnum(c) || c == '.' || c == '_' || c == '-';
        if (plain)
            out += static_cast<char>(c);
        else if (!out.empty() && out.back() != '-')
            out += '-';
    }
    while (!out.empty() && (out.back() == '-' || out.back() == '.'))
        out.pop_back();
    while (!out.empty() && out.front() == '.')
        out.erase(0, 1);
    return out;
}

Pairing pair_frames(const std::vector<Exposure>& exposures, const PairingOptions& options) {
    return Pairer(exposures, options).run();
}

} // namespace kasane
