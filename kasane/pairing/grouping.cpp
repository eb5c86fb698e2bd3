// From exposures to the frames of each master and the lights of each stack.
#include <kasane/pairing/pairer.hpp>

#include <kasane/base/hash.hpp>
#include <kasane/frames/panel_names.hpp>

namespace kasane {

namespace {

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

} // namespace

Pairer::Pairer(const std::vector<Exposure>& exposures, const PairingOptions& options)
    : all_(exposures), options_(options) {
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

void Pairer::drop_duplicates() {
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

void Pairer::find_filters() {
    for (const std::size_t i : order_) {
        const Exposure& e = all_[i];
        const bool lit = (e.role == Role::light && !e.is_master) || e.role == Role::flat;
        if (lit && !e.filter.empty()) filters_[geometry_[i]].insert(plain_letters(e.filter));
    }
}

void Pairer::place(std::size_t i) {
    const Exposure& e = all_[i];
    if (e.made_by_kasane && e.role == Role::light) return; // a result, not an input
    if (e.role == Role::unknown) {
        unplaced_.push_back(e.path);
    } else if (e.planes != 1 && e.planes != 3) {
        colour_images_.push_back(e.path);
    } else if (e.role == Role::light) {
        if (e.is_master)
            finding(Level::note, "master-light", {e.path}, "it is a combination of lights already and is not used", "");
        else
            place_light(i);
    } else if (e.is_master) {
        add_master({i}, true);
    } else {
        calibration_[calibration_key(i)].push_back(i);
    }
}

std::vector<std::vector<std::size_t>> Pairer::by_setting(std::vector<std::size_t> list) const {
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

std::string Pairer::calibration_key(std::size_t i) const {
    const Exposure& e = all_[i];
    std::string key = fmt::format("{}|{}", static_cast<int>(e.role), sensor_[i]);
    if (e.role == Role::flat)
        key += fmt::format("|{}|{}|{}", plain_letters(e.filter), e.night,
                           e.rotator ? std::lround(std::remainder(*e.rotator, 180.0) / kSameAngle) : 0);
    return key;
}

void Pairer::add_master(std::vector<std::size_t> members, bool existing) {
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

void Pairer::make_masters() {
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

void Pairer::drop_finished(const std::vector<std::vector<std::size_t>>& groups) {
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

void Pairer::find_panels() {
    using Picture = std::pair<std::string, std::string>;          // squeezed target, and which part of it stands apart
    std::map<Picture, std::map<std::string, PanelName>> pictures; // of panels, by their whole names
    for (const std::size_t i : order_) {
        const Exposure& e = all_[i];
        if (e.role != Role::light || e.is_master) continue;
        const std::string whole = squeezed(e.target);
        const PanelName name = panel_of_name(e.target);
        const auto part = options_.apart.find(whole);
        pictures[{squeezed(name.target), part == options_.apart.end() ? "" : part->second}].emplace(whole, name);
    }
    for (const auto& [picture, names] : pictures) {
        if (names.size() < 2) continue;
        std::string shown = names.begin()->second.target;
        if (!picture.second.empty()) { // "Paper Lantern Nebula panels 3 6"
            shown += " panels";
            for (const auto& [whole, name] : names)
                shown += " " + name.panel;
        }
        for (const auto& [whole, name] : names)
            panels_[whole] = shown;
    }
}

const std::string& Pairer::target_of(std::size_t i) const {
    if (panels_.empty()) return all_[i].target;
    const auto it = panels_.find(squeezed(all_[i].target));
    return it == panels_.end() ? all_[i].target : it->second;
}

bool Pairer::same_stack(const StackPlan& s, std::size_t light) const {
    const Exposure &other = all_[s.lights.front().exposure], &e = all_[light];
    if (squeezed(s.target) != squeezed(target_of(light)) || plain_letters(s.filter) != plain_letters(e.filter))
        return false;
    const bool optics =
        (other.telescope.empty() || e.telescope.empty() || squeezed(other.telescope) == squeezed(e.telescope)) &&
        (!other.focal_length_mm || !e.focal_length_mm ||
         std::abs(std::log(*other.focal_length_mm / *e.focal_length_mm)) < 0.05);
    return optics && std::all_of(options_.separate.begin(), options_.separate.end(),
                                 [&](Field f) { return value_text(other, f) == value_text(e, f); });
}

void Pairer::place_light(std::size_t i) {
    const Exposure& e = all_[i];
    // Few stacks, many lights: the last ones are tried first.
    for (auto s = result_.stacks.rbegin(); s != result_.stacks.rend(); ++s)
        if (sensor_[s->lights.front().exposure] == sensor_[i] && same_stack(*s, i)) {
            s->lights.push_back({});
            s->lights.back().exposure = i;
            return;
        }
    StackPlan s;
    s.target = target_of(i);
    s.filter = e.filter;
    s.sensor = sensor_key(e);
    s.mosaic = !e.cfa.empty();
    s.lights.push_back({});
    s.lights.back().exposure = i;
    result_.stacks.push_back(std::move(s));
}

} // namespace kasane
