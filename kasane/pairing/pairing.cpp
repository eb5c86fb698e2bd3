#include <kasane/pairing/pairing.hpp>

#include <kasane/base/hash.hpp>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <set>
#include <tuple>

namespace kasane {

namespace {

constexpr double kLeastScale = 0.1, kMostScale = 10; // of a dark; beyond, its noise or its faintness would hurt
constexpr double kDoubling = 6;                      // degrees in which dark current doubles, as a rule
constexpr double kSameAngle = 2;                     // degrees of a rotator
constexpr double kSharp = 1;                         // degrees: within it, temperatures count as the same
constexpr std::size_t kMostNearMisses = 3;           // told for each kind of master

bool same_number(const std::optional<double>& a, const std::optional<double>& b) {
    return !a || !b || std::abs(*a - *b) < 1e-6 * std::max(1.0, std::abs(*a));
}

std::optional<double> difference(const std::optional<double>& a, const std::optional<double>& b) {
    return a && b ? std::optional(std::abs(*a - *b)) : std::nullopt;
}

std::string number_text(const std::optional<double>& v, const char* unit = "") {
    return v ? fmt::format("{:g}{}", *v, unit) : "unknown";
}

bool angles_agree(const std::optional<double>& a, const std::optional<double>& b) {
    if (!a || !b) return true;
    const double d = std::fabs(std::remainder(*a - *b, 360.0));
    return d <= kSameAngle ||
           std::abs(d - 180) <= kSameAngle; // upside down after the meridian is the same camera angle
}

template <class List>
std::optional<double> mean_of(const List& values) {
    double sum = 0;
    int n = 0;
    for (const auto& v : values)
        if (v) {
            sum += *v;
            ++n;
        }
    return n ? std::optional(sum / n) : std::nullopt;
}

class Pairer {
public:
    Pairer(const std::vector<Exposure>& exposures, const PairingOptions& options) : all_(exposures), options_(options) {
        for (std::size_t i = 0; i < all_.size(); ++i) {
            order_.push_back(i);
            Exposure nameless;
            nameless.width = all_[i].width;
            nameless.height = all_[i].height;
            nameless.binning_x = all_[i].binning_x;
            nameless.binning_y = all_[i].binning_y;
            nameless.cfa = all_[i].cfa;
            nameless.planes = all_[i].planes;
            geometry_.push_back(geometries_.try_emplace(sensor_key(nameless), geometries_.size()).first->second);
            sensor_.push_back(sensors_.try_emplace(sensor_key(all_[i]), sensors_.size()).first->second);
        }
        std::sort(order_.begin(), order_.end(), [&](auto a, auto b) { return rank(a) < rank(b); });
    }

    Pairing run() {
        drop_duplicates();
        find_filters();
        for (const std::size_t i : order_)
            place(i);
        make_masters();
        name_all();
        for (MasterPlan& m : result_.masters)
            if (m.role == Role::flat && !m.existing) choose_flat_offset(m);
        for (StackPlan& s : result_.stacks)
            pair_stack(s);
        report();
        return std::move(result_);
    }

private:
    /// Time, then content, so that names of files and folders do not matter.
    std::tuple<double, const std::string&, const std::string&> rank(std::size_t i) const {
        return {all_[i].time.value_or(0), all_[i].identity, all_[i].path};
    }
    const Exposure& first(const MasterPlan& m) const { return all_[m.members.front()]; }

    void finding(Level level, std::string code, std::vector<std::string> files, std::string text, std::string remedy) {
        std::sort(files.begin(), files.end());
        result_.findings.push_back({level, std::move(code), std::move(files), std::move(text), std::move(remedy)});
    }

    /// The same content twice would count twice. The shortest path stays.
    void drop_duplicates() {
        std::map<std::string, std::size_t> seen;
        std::vector<std::string> copies;
        std::vector<std::size_t> kept;
        std::vector<std::size_t> by_path = order_;
        std::sort(by_path.begin(), by_path.end(), [&](auto a, auto b) {
            if (all_[a].path.size() != all_[b].path.size()) return all_[a].path.size() < all_[b].path.size();
            return all_[a].path < all_[b].path;
        });
        std::set<std::size_t> dropped;
        std::string example;
        for (const std::size_t i : by_path) {
            if (all_[i].identity.empty()) continue;
            const auto [it, fresh] = seen.try_emplace(all_[i].identity, i);
            if (fresh) continue;
            dropped.insert(i);
            copies.push_back(all_[i].path);
            if (example.empty()) example = all_[it->second].path;
        }
        if (dropped.empty()) return;
        std::erase_if(order_, [&](std::size_t i) { return dropped.count(i) > 0; });
        finding(Level::warning, "duplicate-files", copies,
                fmt::format("{} has the same content as a file that is used already ({})",
                            copies.size() == 1 ? "it" : "each", example),
                "Nothing is lost: one of each is used. Remove the copies to be rid of this");
    }

    /// The filters that lights and flats of each sensor name.
    void find_filters() {
        for (const std::size_t i : order_) {
            const Exposure& e = all_[i];
            const bool lit = (e.role == Role::light && !e.is_master) || e.role == Role::flat;
            if (lit && !e.filter.empty()) filters_[geometry_[i]].insert(plain_letters(e.filter));
        }
    }

    void place(std::size_t i) {
        const Exposure& e = all_[i];
        if (e.made_by_kasane && e.role == Role::light) return; // a result, not an input
        if (e.role == Role::unknown) {
            unplaced_.push_back(e.path);
        } else if (e.planes != 1 && e.planes != 3) {
            colour_images_.push_back(e.path);
        } else if (e.role == Role::light) {
            if (e.is_master)
                finding(Level::note, "master-light", {e.path}, "it is a combination of lights already and is not used",
                        "");
            else
                place_light(i);
        } else if (e.is_master) {
            add_master({i}, true);
        } else {
            calibration_[calibration_key(i)].push_back(i);
        }
    }

    /// Frames that have gain and offset in common, where they know them.
    std::vector<std::vector<std::size_t>> by_setting(std::vector<std::size_t> list) const {
        std::stable_sort(list.begin(), list.end(), [&](auto a, auto b) { // those that know most first
            const auto known = [&](std::size_t i) { return (all_[i].gain ? 1 : 0) + (all_[i].offset ? 1 : 0); };
            return known(a) > known(b);
        });
        std::vector<std::vector<std::size_t>> groups;
        for (const std::size_t i : list) {
            const auto fits = std::find_if(groups.begin(), groups.end(), [&](const auto& g) {
                return same_number(all_[g.front()].gain, all_[i].gain) &&
                       same_number(all_[g.front()].offset, all_[i].offset);
            });
            if (fits == groups.end())
                groups.push_back({i});
            else
                fits->push_back(i);
        }
        return groups;
    }

    /// What single frames of one master have in common, temperatures and exposures apart.
    std::string calibration_key(std::size_t i) const {
        const Exposure& e = all_[i];
        std::string key = fmt::format("{}|{}", static_cast<int>(e.role), sensor_[i]);
        if (e.role == Role::flat)
            key += fmt::format("|{}|{}|{}", plain_letters(e.filter), e.night,
                               e.rotator ? std::lround(std::remainder(*e.rotator, 180.0) / kSameAngle) : 0);
        return key;
    }

    void add_master(std::vector<std::size_t> members, bool existing) {
        MasterPlan m;
        m.role = all_[members.front()].role;
        m.existing = existing;
        std::vector<std::optional<double>> temperatures, times;
        for (const std::size_t i : members) {
            temperatures.push_back(all_[i].sensor_temperature());
            times.push_back(all_[i].time);
        }
        m.temperature = mean_of(temperatures);
        m.time = mean_of(times);
        m.members = std::move(members);
        result_.masters.push_back(std::move(m));
    }

    /// Splits frames by a number: sorted, a group ends where the next lies more than `width(first)` beyond its first.
    template <class Value, class Width>
    std::vector<std::vector<std::size_t>> split(std::vector<std::size_t> list, Value value, Width width) const {
        std::stable_sort(list.begin(), list.end(),
                         [&](auto a, auto b) { return value(all_[a]).value_or(-1e9) < value(all_[b]).value_or(-1e9); });
        std::vector<std::vector<std::size_t>> groups;
        std::optional<double> begin;
        for (const std::size_t i : list) {
            const auto v = value(all_[i]);
            const bool joins =
                !groups.empty() && v.has_value() == begin.has_value() && (!v || *v - *begin <= width(*begin));
            if (!joins) {
                groups.emplace_back();
                begin = v;
            }
            groups.back().push_back(i);
        }
        return groups;
    }

    void make_masters() {
        std::vector<std::vector<std::size_t>> groups;
        std::vector<std::vector<std::size_t>> lists;
        for (const auto& [key, all] : calibration_)
            for (auto& list : by_setting(all))
                lists.push_back(std::move(list));
        for (const auto& list : lists) {
            if (all_[list.front()].role == Role::flat) {
                groups.push_back(list);
                continue;
            }
            const auto by_temperature = split(
                list, [](const Exposure& e) { return e.sensor_temperature(); },
                [&](double) { return options_.temperature_tolerance; });
            for (const auto& part : by_temperature) {
                if (all_[list.front()].role == Role::bias) {
                    groups.push_back(part);
                    continue;
                }
                for (auto& one : split(
                         part, [](const Exposure& e) { return e.seconds; },
                         [&](double s) { return options_.exposure_tolerance * s + 1e-3; }))
                    groups.push_back(std::move(one));
            }
        }
        for (auto& g : groups)
            std::sort(g.begin(), g.end(), [&](auto a, auto b) { return rank(a) < rank(b); });
        drop_finished(groups);
        for (auto& g : groups)
            add_master(std::move(g), false);
        std::stable_sort(result_.masters.begin(), result_.masters.end(), [&](const MasterPlan& a, const MasterPlan& b) {
            const auto key = [&](const MasterPlan& m) {
                return std::tuple(static_cast<int>(m.role), first(m).filter, first(m).seconds.value_or(-1),
                                  m.temperature.value_or(-1e3), first(m).night, first(m).identity, first(m).path);
            };
            return key(a) < key(b);
        });
    }

    /// Masters that Kasane made of frames which are here: the frames speak for themselves. Of just these frames, they
    /// are found again when they are asked for; of others too, or of fewer, they are superseded.
    void drop_finished(const std::vector<std::vector<std::size_t>>& groups) {
        std::set<std::string> here;
        for (const auto& g : groups)
            for (const std::size_t i : g)
                here.insert(all_[i].fingerprint);
        const auto digest_of_group = [&](const std::vector<std::size_t>& g) {
            std::string inputs;
            for (const std::size_t i : g)
                inputs += all_[i].fingerprint;
            return digest(inputs);
        };
        std::set<std::string> digests;
        for (const auto& g : groups)
            digests.insert(digest_of_group(g));
        std::erase_if(result_.masters, [&](const MasterPlan& m) {
            const Exposure& e = first(m);
            if (!m.existing || e.inputs.empty()) return false;
            if (digests.count(e.inputs) > 0) return true;
            const auto present = static_cast<std::size_t>(std::count_if(
                e.input_frames.begin(), e.input_frames.end(), [&](const std::string& f) { return here.count(f) > 0; }));
            if (present == 0) return false; // its frames are elsewhere: it stands for itself
            finding(Level::note, "master-superseded", {e.path},
                    fmt::format("it was made of {} frames, of which {} are here, among other ones or without the rest; "
                                "a master is made of those that are here, and this one is not used",
                                e.input_frames.size(), present),
                    "");
            return true;
        });
    }

    bool same_stack(const StackPlan& s, const Exposure& other, const Exposure& e) const {
        if (squeezed(s.target) != squeezed(e.target) || plain_letters(s.filter) != plain_letters(e.filter))
            return false;
        const bool optics =
            (other.telescope.empty() || e.telescope.empty() || squeezed(other.telescope) == squeezed(e.telescope)) &&
            (!other.focal_length_mm || !e.focal_length_mm ||
             std::abs(std::log(*other.focal_length_mm / *e.focal_length_mm)) < 0.05);
        return optics && std::all_of(options_.separate.begin(), options_.separate.end(),
                                     [&](Field f) { return value_text(other, f) == value_text(e, f); });
    }

    void place_light(std::size_t i) {
        const Exposure& e = all_[i];
        // Few stacks, many lights: the last ones are tried first.
        for (auto s = result_.stacks.rbegin(); s != result_.stacks.rend(); ++s)
            if (sensor_[s->lights.front().exposure] == sensor_[i] &&
                same_stack(*s, all_[s->lights.front().exposure], e)) {
                s->lights.push_back({});
                s->lights.back().exposure = i;
                return;
            }
        StackPlan s;
        s.target = e.target;
        s.filter = e.filter;
        s.sensor = sensor_key(e);
        s.mosaic = !e.cfa.empty();
        s.lights.push_back({});
        s.lights.back().exposure = i;
        result_.stacks.push_back(std::move(s));
    }

    /// What a name stands for, and what tells it from others that would have the same one, the most telling first.
    struct Naming {
        std::string* name;
        std::string wanted, identity;
        std::vector<std::string> marks;
        std::string* note;
    };

    static std::string mark_of(const Exposure& e, Field field) {
        switch (field) {
        case Field::gain:
            return e.gain ? fmt::format("{}{:g}", e.gain_is_iso ? "ISO" : "gain", *e.gain) : "";
        case Field::offset:
            return e.offset ? fmt::format("offset{:g}", *e.offset) : "";
        case Field::binning:
            return fmt::format("bin{}", e.binning_x);
        case Field::rotator:
            return e.rotator ? fmt::format("{:.0f}deg", *e.rotator) : "";
        case Field::focal_length:
            return e.focal_length_mm ? fmt::format("{:.0f}mm", *e.focal_length_mm) : "";
        default:
            return value_text(e, field);
        }
    }

    static std::vector<std::string> marks_of(const Exposure& e, std::initializer_list<Field> fields) {
        std::vector<std::string> out;
        for (const Field f : fields)
            out.push_back(mark_of(e, f));
        out.insert(out.begin() + 1, fmt::format("{}x{}", e.width, e.height));
        out.push_back(e.planes == 3 ? "colour" : e.cfa.empty() ? "mono" : e.cfa);
        return out;
    }

    /// Names given before stay; of the others, those that want the same one are told apart by what differs between
    /// them, and only where nothing does by a number.
    void give_names(std::vector<Naming>& all) {
        std::map<std::string, const Naming*> taken;
        std::map<std::string, std::vector<Naming*>> wanting;
        for (Naming& n : all) {
            const auto before = options_.names.find(n.identity);
            if (before != options_.names.end() && taken.try_emplace(before->second, &n).second)
                *n.name = before->second;
            wanting[n.wanted].push_back(&n);
        }
        for (auto& [wanted, same] : wanting)
            for (Naming* n : same) {
                if (!n->name->empty()) continue;
                std::string name = wanted;
                bool alone = same.size() == 1;
                for (std::size_t k = 0; k < n->marks.size() && !alone; ++k) {
                    const auto differs = [&](const Naming* o) { return o->marks[k] != n->marks[k]; };
                    if (std::none_of(same.begin(), same.end(), differs) || n->marks[k].empty()) continue;
                    name += "-" + n->marks[k];
                    alone = std::all_of(same.begin(), same.end(), [&](const Naming* o) {
                        return o == n ||
                               !std::equal(n->marks.begin(), n->marks.begin() + static_cast<std::ptrdiff_t>(k) + 1,
                                           o->marks.begin());
                    });
                }
                name = file_safe(name);
                std::string candidate = name;
                for (int i = 2; !taken.try_emplace(candidate, n).second; ++i)
                    candidate = fmt::format("{}-{}", name, i);
                *n->name = candidate;
            }
        for (const Naming& n : all)
            if (n.note && n.note->empty() && *n.name != n.wanted)
                *n.note = n.name->starts_with(n.wanted + "-")
                              ? fmt::format("another is called {}; {} tells this one apart", n.wanted,
                                            n.name->substr(n.wanted.size() + 1))
                              : fmt::format("it would be called {}, and was called otherwise before", n.wanted);
    }

    void name_all() {
        std::vector<Naming> namings;
        for (MasterPlan& m : result_.masters) {
            const Exposure& e = first(m);
            std::string name(m.role == Role::dark_flat ? "dark-flat" : role_name(m.role));
            if (m.role == Role::flat) {
                if (!e.filter.empty()) name += "-" + e.filter;
                if (!e.night.empty()) name += "-" + e.night;
            } else if (m.role != Role::bias && e.seconds) {
                name += fmt::format("-{:g}s", *e.seconds);
            }
            if (m.temperature && m.role != Role::flat) name += fmt::format("_{:g}C", std::round(*m.temperature) + 0.0);
            name = file_safe(name);
            m.identity =
                digest(fmt::format("master|{}|{}|{}|{}|{}", name, sensor_key(e), mark_of(e, Field::gain),
                                   mark_of(e, Field::offset), m.role == Role::flat ? mark_of(e, Field::rotator) : ""));
            namings.push_back({&m.name, name, m.identity,
                               marks_of(e, {Field::camera, Field::binning, Field::gain, Field::offset, Field::rotator}),
                               nullptr});
        }
        give_names(namings);
        std::stable_sort(result_.stacks.begin(), result_.stacks.end(), [](const StackPlan& a, const StackPlan& b) {
            return std::tie(a.target, a.filter, a.sensor) < std::tie(b.target, b.filter, b.sensor);
        });
        namings.clear();
        for (StackPlan& s : result_.stacks) {
            const Exposure& e = all_[s.lights.front().exposure];
            std::string name = s.target.empty() ? "light" : s.target, apart;
            if (!s.filter.empty()) name += "-" + s.filter;
            for (const Field f : options_.separate)
                if (const std::string v = value_text(e, f); !v.empty())
                    apart += "-" + v + (f == Field::seconds ? "s" : "");
            name += apart;
            std::string telescope;
            for (const LightPlan& l : s.lights)
                if (telescope.empty()) telescope = squeezed(all_[l.exposure].telescope);
            const std::string safe = file_safe(name);
            s.identity = digest(fmt::format("stack|{}|{}|{}|{}|{}", squeezed(s.target), plain_letters(s.filter),
                                            s.sensor, telescope, apart));
            std::string blanks = name;
            std::replace(blanks.begin(), blanks.end(), ' ', '-');
            if (safe != blanks) s.name_note = fmt::format("'{}' cannot be a file name as it is", name);
            namings.push_back(
                {&s.name, safe.empty() ? "light" : safe, s.identity,
                 marks_of(e, {Field::camera, Field::binning, Field::telescope, Field::focal_length, Field::gain}),
                 &s.name_note});
        }
        give_names(namings);
    }

    /// Why a master cannot calibrate an exposure, where frames must agree; empty: it can.
    NearMiss must_agree(const MasterPlan& m, const Exposure& e) const {
        const Exposure& c = first(m);
        NearMiss miss;
        std::vector<std::string> reasons;
        if (!c.camera.empty() && !e.camera.empty() && c.camera != e.camera)
            reasons.push_back(fmt::format("camera differs ({}, lights {})", c.camera, e.camera));
        if (!reasons.empty()) miss.allowed = "if it is the same camera, give its name with 'camera' in [[files]]";
        if (c.width != e.width || c.height != e.height) {
            reasons.push_back(
                fmt::format("size differs ({} x {}, lights {} x {})", c.width, c.height, e.width, e.height));
            miss.allowed = c.width == e.height && c.height == e.width
                               ? "if its pixels are turned, allowed with turn = 90 or turn = 270 in [[files]]"
                               : "";
        }
        if (c.binning_x != e.binning_x || c.binning_y != e.binning_y)
            reasons.push_back(fmt::format("binning differs ({}x{}, lights {}x{})", c.binning_x, c.binning_y,
                                          e.binning_x, e.binning_y));
        if (c.cfa != e.cfa) {
            reasons.push_back(fmt::format("colour filter array differs ({}, lights {})", c.cfa.empty() ? "none" : c.cfa,
                                          e.cfa.empty() ? "none" : e.cfa));
            if (miss.allowed.empty() && (c.cfa.empty() || e.cfa.empty()))
                miss.allowed = "if a header forgot it, give it with 'cfa' in [[files]] or [assume]";
        }
        if (!same_number(c.gain, e.gain))
            reasons.push_back(fmt::format("gain differs ({}, lights {})", number_text(c.gain), number_text(e.gain)));
        if (!same_number(c.offset, e.offset))
            reasons.push_back(
                fmt::format("offset differs ({}, lights {})", number_text(c.offset), number_text(e.offset)));
        for (std::size_t i = 0; i < reasons.size(); ++i)
            miss.reason += (i ? ", " : "") + reasons[i];
        if (reasons.size() > 1) miss.allowed.clear();
        return miss;
    }

    bool sensors_agree(const MasterPlan& m, std::size_t e) const {
        const Exposure& c = first(m);
        const bool cameras = c.camera.empty() || all_[e].camera.empty() || sensor_[m.members.front()] == sensor_[e];
        return geometry_[m.members.front()] == geometry_[e] && cameras && same_number(c.gain, all_[e].gain) &&
               same_number(c.offset, all_[e].offset);
    }

    bool exposure_fits(const std::optional<double>& a, const std::optional<double>& b) const {
        return !a || !b || std::abs(*a - *b) <= options_.exposure_tolerance * std::max(*a, *b) + 1e-3;
    }

    /// Nearest wins: same temperature to a degree, night, time, temperature; all else equal, frames before a master.
    std::tuple<int, int, double, double, int> nearness(const MasterPlan& m, const Exposure& e) const {
        const double warmth = difference(m.temperature, e.sensor_temperature()).value_or(0);
        const bool own_night = !e.night.empty() && first(m).night == e.night;
        return {warmth > kSharp ? 1 : 0, own_night ? 0 : 1, difference(m.time, e.time).value_or(1e12), warmth,
                m.existing ? 1 : 0};
    }

    /// The nearest master of a role among those that agree and for which `fits` says so.
    template <class Fits>
    std::optional<std::size_t> nearest(Role role, std::size_t e, Fits fits) const {
        std::optional<std::size_t> chosen;
        for (std::size_t i = 0; i < result_.masters.size(); ++i) {
            const MasterPlan& m = result_.masters[i];
            if (m.role != role || !sensors_agree(m, e) || !fits(m)) continue;
            if (!chosen || nearness(m, all_[e]) < nearness(result_.masters[*chosen], all_[e])) chosen = i;
        }
        return chosen;
    }

    /// Told only if a light uses the flats in the end.
    void tell_flat_offset(const MasterPlan& flat, Level level, const char* code, std::string text, const char* remedy) {
        std::vector<std::string> files;
        for (const std::size_t i : flat.members)
            files.push_back(all_[i].path);
        std::sort(files.begin(), files.end());
        flat_findings_.emplace_back(flat.name, Finding{level, code, std::move(files), std::move(text), remedy});
    }

    void choose_flat_offset(MasterPlan& flat) {
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
            tell_flat_offset(
                flat, Level::note, "flat-offset-approximate",
                fmt::format("the flats {} have exposures of their own; a dark flat of {} removes their offset",
                            flat.name, seconds_text(first(result_.masters[*flat.offset]).seconds)),
                "Take bias frames at the same gain and offset");
            return;
        }
        flat.offset_level = options_.offset_level ? options_.offset_level : e.black_level;
        flat.offset_reason = flat.offset_level ? fmt::format("constant {:g} ADU", *flat.offset_level) : "none";
        if (flat.offset_level)
            tell_flat_offset(
                flat, Level::warning, "flat-offset-constant",
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

    /// What calibrates lights of these properties; lights that agree in them are paired once.
    std::string light_key(std::size_t i) const {
        const Exposure& e = all_[i];
        return fmt::format("{}|{}|{}|{}|{}|{}", number_text(e.seconds), number_text(e.gain), number_text(e.offset),
                           e.night, e.sensor_temperature() ? fmt::format("{:.1f}", *e.sensor_temperature()) : "?",
                           e.rotator ? std::lround(*e.rotator) : 0);
    }

    struct DarkChoice {
        std::optional<std::size_t> dark, bias, second;
        double scale = 1;
        std::optional<double> offset_level;
        std::string reason;
        enum class Kind { fits, far_temperature, scaled, bias_only, constant, none } kind = Kind::none;
    };

    /// The dark nearest in temperature on the other side of a light than the one it takes.
    template <class Fits>
    std::optional<std::size_t> other_side(const std::optional<std::size_t>& chosen, std::size_t i, Fits fits) const {
        const auto t = all_[i].sensor_temperature();
        if (!chosen || !t || !result_.masters[*chosen].temperature) return std::nullopt;
        const double side = *result_.masters[*chosen].temperature - *t;
        std::optional<std::size_t> best;
        for (std::size_t k = 0; k < result_.masters.size(); ++k) {
            const MasterPlan& m = result_.masters[k];
            if (k == *chosen || m.role != Role::dark || !m.temperature || !sensors_agree(m, i) || !fits(m)) continue;
            const double away = *m.temperature - *t;
            if (away * side >= 0) continue;
            if (!best || std::abs(away) < std::abs(*result_.masters[*best].temperature - *t)) best = k;
        }
        return best;
    }

    DarkChoice choose_dark(std::size_t i) const {
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

    bool filter_fits(const MasterPlan& m, const Exposure& e) const {
        return plain_letters(first(m).filter) == plain_letters(e.filter);
    }

    /// Flats or lights without a filter, where nothing contradicts that it is the same.
    bool filter_may_fit(const MasterPlan& m, std::size_t i) const {
        const Exposure& e = all_[i];
        if (first(m).filter.empty() == e.filter.empty()) return false;
        const auto known = filters_.find(geometry_[i]);
        const bool one_filter = known != filters_.end() && known->second.size() == 1;
        return one_filter || (first(m).filter.empty() && e.source(Field::filter).origin == Origin::path);
    }

    struct FlatChoice {
        std::optional<std::size_t> flat;
        std::string reason = "none";
        bool other_night = false, turned = false, filter_unknown = false;
    };

    FlatChoice choose_flat(std::size_t i) const {
        const Exposure& e = all_[i];
        FlatChoice c;
        for (const bool by_guess : {false, true}) {
            const auto allowed = [&](const MasterPlan& f) {
                const bool own = first(f).night == e.night || first(f).night.empty() || e.night.empty();
                return (by_guess ? filter_may_fit(f, i) : filter_fits(f, e)) &&
                       (own || options_.flats_of_other_nights || f.existing);
            };
            c.flat = nearest(Role::flat, i, [&](const MasterPlan& f) {
                return allowed(f) && angles_agree(first(f).rotator, e.rotator);
            });
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

    std::vector<NearMiss> near_misses(std::size_t i, const DarkChoice& dark, const FlatChoice& flat) const {
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
                    miss.reason = fmt::format("filter differs ({}, lights {})",
                                              first(m).filter.empty() ? "none" : first(m).filter,
                                              e.filter.empty() ? "none" : e.filter);
                    miss.allowed = "if a header has it wrong, give 'filter' in [[files]]";
                } else if (first(m).night != e.night) {
                    miss.reason = fmt::format("night differs ({}, lights {})", first(m).night, e.night);
                    miss.allowed = options_.flats_of_other_nights ? "a nearer one is there"
                                                                  : "allowed with flats_of_other_nights = true";
                } else if (!angles_agree(first(m).rotator, e.rotator)) {
                    miss.reason =
                        fmt::format("camera angle differs ({:g}, lights {:g})", *first(m).rotator, *e.rotator);
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

    void pair_stack(StackPlan& s) {
        struct Paired {
            DarkChoice dark;
            FlatChoice flat;
        };
        std::map<std::string, Paired> known;
        std::map<std::string, std::size_t> groups;
        std::map<std::string, std::vector<std::string>> told; // by code and text
        std::map<std::string, std::string> remedies;
        const auto tell = [&](const char* code, const std::string& text, const std::string& remedy, const Exposure& e) {
            const std::string key = fmt::format("{}\n{}", code, text);
            told[key].push_back(e.path);
            remedies[key] = remedy;
        };
        for (std::size_t n = 0; n < s.lights.size(); ++n) {
            LightPlan& light = s.lights[n];
            const Exposure& e = all_[light.exposure];
            const std::string key = light_key(light.exposure);
            auto it = known.find(key);
            if (it == known.end())
                it = known.emplace(key, Paired{choose_dark(light.exposure), choose_flat(light.exposure)}).first;
            const auto& [dark, flat] = it->second;
            light.dark = dark.dark;
            light.bias = dark.bias;
            light.dark_scale = dark.scale;
            light.second_dark = dark.second;
            light.offset_level = dark.offset_level;
            light.dark_reason = dark.reason;
            light.flat = flat.flat;
            light.flat_reason = flat.reason;
            const std::string group = fmt::format("{}|{}|{}|{}|{}|{}", e.night, number_text(e.seconds),
                                                  number_text(e.gain), dark.dark ? static_cast<long>(*dark.dark) : -1,
                                                  flat.flat ? static_cast<long>(*flat.flat) : -1, dark.reason);
            const auto [at, fresh] = groups.try_emplace(group, s.groups.size());
            if (fresh) s.groups.push_back({{}, near_misses(light.exposure, dark, flat)});
            s.groups[at->second].lights.push_back(n);
            tell_dark(dark, e, tell);
            tell_flat(flat, e, s.groups[at->second].near_misses, tell);
        }
        for (auto& [key, files] : told) {
            const auto line = key.find('\n');
            const std::string code = key.substr(0, line);
            const std::size_t n = files.size();
            finding(code == "dark-scaled" || code == "flat-filter-unknown" ? Level::note : Level::warning, code,
                    std::move(files),
                    fmt::format("{} light{} of {}: {}", n, n == 1 ? "" : "s", s.name, key.substr(line + 1)),
                    remedies[key]);
        }
    }

    template <class Tell>
    void tell_dark(const DarkChoice& c, const Exposure& e, Tell tell) const {
        const std::string wanted =
            fmt::format("{}{}", seconds_text(e.seconds),
                        e.gain ? fmt::format(" at {} {:g}", e.gain_is_iso ? "ISO" : "gain", *e.gain) : "");
        switch (c.kind) {
        case DarkChoice::Kind::fits:
            return;
        case DarkChoice::Kind::far_temperature:
            return tell("dark-temperature",
                        fmt::format("the dark {} is used, more than {:g} C from their temperature",
                                    result_.masters[*c.dark].name, options_.temperature_tolerance),
                        "Take darks at that temperature too, or bias frames so that darks can be scaled", e);
        case DarkChoice::Kind::scaled:
            return tell("dark-scaled",
                        fmt::format("no dark of {} at their temperature; {} is scaled, with the bias {}", wanted,
                                    result_.masters[*c.dark].name, result_.masters[*c.bias].name),
                        "Take darks of the same exposure, gain and temperature to be sure of hot pixels and glow", e);
        case DarkChoice::Kind::bias_only:
            return tell(
                "dark-missing",
                fmt::format("no dark of {}; the bias alone is subtracted, hot pixels are found in each light by itself",
                            wanted),
                "Take darks of the same exposure, gain and temperature; the run may go on without", e);
        case DarkChoice::Kind::constant:
            return tell("dark-missing",
                        fmt::format("neither dark nor bias; the constant {:g} ADU is subtracted, glow and hot pixels "
                                    "stay in",
                                    *c.offset_level),
                        "Take darks of the same exposure, gain and temperature; the run may go on without", e);
        case DarkChoice::Kind::none:
            return tell("dark-missing",
                        "neither dark nor bias; offset and glow stay in; hot pixels are found in each light by itself",
                        "Take darks of the same exposure, gain and temperature; the run may go on without", e);
        }
    }

    template <class Tell>
    void tell_flat(const FlatChoice& c, const Exposure& e, const std::vector<NearMiss>& misses, Tell tell) const {
        if (!c.flat) {
            const auto refused = std::find_if(misses.begin(), misses.end(), [&](const NearMiss& m) {
                return result_.masters[m.master].role == Role::flat;
            });
            std::string text = fmt::format("no flat{}{}; vignetting and dust stay in",
                                           e.filter.empty() ? "" : " of filter " + e.filter,
                                           options_.flats_of_other_nights ? "" : " of their night");
            std::string remedy = "Take flats with the same camera, filter and binning; the run may go on without";
            if (refused != misses.end()) {
                text += fmt::format(". {} was not taken: {}", result_.masters[refused->master].name, refused->reason);
                if (!refused->allowed.empty()) {
                    remedy = refused->allowed;
                    remedy.front() = static_cast<char>(std::toupper(static_cast<unsigned char>(remedy.front())));
                }
            }
            return tell("flat-missing", text, remedy, e);
        }
        if (c.filter_unknown) {
            const Exposure& f = first(result_.masters[*c.flat]);
            tell("flat-filter-unknown",
                 fmt::format("the flats {} are used, though the filter of the {} is not known: nothing speaks for "
                             "another than {}",
                             result_.masters[*c.flat].name, f.filter.empty() ? "flats" : "lights",
                             f.filter.empty() ? e.filter : f.filter),
                 "Give 'filter' in [[files]] if that is wrong", e);
        }
        if (c.other_night)
            tell("flat-of-another-night",
                 fmt::format("of {}, flats of another night ({}) are used: dust may have moved",
                             e.night.empty() ? "an unknown night" : e.night, first(result_.masters[*c.flat]).night),
                 "Take flats every night", e);
        if (c.turned)
            tell("flat-before-turn",
                 fmt::format(
                     "taken at another camera angle ({:g} degrees) than their flats ({:g}): the camera was turned "
                     "between them",
                     *e.rotator, *first(result_.masters[*c.flat]).rotator),
                 "Take flats again after turning the camera", e);
    }

    void report() {
        std::set<std::string> used;
        for (const StackPlan& s : result_.stacks)
            for (const LightPlan& l : s.lights)
                if (l.flat) used.insert(result_.masters[*l.flat].name);
        for (auto& [name, f] : flat_findings_)
            if (used.count(name)) result_.findings.push_back(std::move(f));
        if (!colour_images_.empty())
            finding(Level::warning, "colour-image", colour_images_,
                    "images with other than one or three planes are not exposures", "Remove them, or exclude them");
        if (!unplaced_.empty())
            finding(Level::warning, "role-unknown", unplaced_,
                    fmt::format("{} file{} not placed: neither header, folder name nor file name says what {}",
                                unplaced_.size(), unplaced_.size() == 1 ? " was" : "s were",
                                unplaced_.size() == 1 ? "it is" : "they are"),
                    "Put them into folders named lights, darks, flats or bias, or give their role in the recipe");
    }

    const std::vector<Exposure>& all_;
    PairingOptions options_;
    std::map<std::string, std::size_t> sensors_;
    std::map<std::string, std::size_t> geometries_;
    std::vector<std::size_t> sensor_;   ///< of each exposure: frames with the same number are of one camera
    std::vector<std::size_t> geometry_; ///< the same without the camera's name, which some files lack
    std::vector<std::size_t> order_;
    std::map<std::string, std::vector<std::size_t>> calibration_;
    std::map<std::size_t, std::set<std::string>> filters_; ///< by geometry
    Pairing result_;
    std::vector<std::string> unplaced_, colour_images_;
    std::vector<std::pair<std::string, Finding>> flat_findings_; ///< by the flats' name
};

} // namespace

std::string seconds_text(const std::optional<double>& seconds) {
    return seconds ? fmt::format("{:g} s", *seconds) : "unknown exposure";
}

Pairing pair_frames(const std::vector<Exposure>& exposures, const PairingOptions& options) {
    return Pairer(exposures, options).run();
}

} // namespace kasane
