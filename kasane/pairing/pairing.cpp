// Goes through all stacks, pairs their lights, and tells what a person should know.
#include <kasane/pairing/pairer.hpp>

#include <cctype>

namespace kasane {

Pairing Pairer::run() {
    drop_duplicates();
    find_filters();
    find_panels();
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

void Pairer::finding(Level level, std::string code, std::vector<std::string> files, std::string text,
                     std::string remedy) {
    std::sort(files.begin(), files.end());
    result_.findings.push_back({level, std::move(code), std::move(files), std::move(text), std::move(remedy)});
}

void Pairer::pair_stack(StackPlan& s) {
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
        const std::string group = fmt::format("{}|{}|{}|{}|{}|{}", e.night, number_text(e.seconds), number_text(e.gain),
                                              dark.dark ? static_cast<long>(*dark.dark) : -1,
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
                fmt::format("{} light{} of {}: {}", n, n == 1 ? "" : "s", s.name, key.substr(line + 1)), remedies[key]);
    }
}

template <class Tell>
void Pairer::tell_dark(const DarkChoice& c, const Exposure& e, Tell tell) const {
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
void Pairer::tell_flat(const FlatChoice& c, const Exposure& e, const std::vector<NearMiss>& misses, Tell tell) const {
    if (!c.flat) {
        const auto refused = std::find_if(misses.begin(), misses.end(), [&](const NearMiss& m) {
            return result_.masters[m.master].role == Role::flat;
        });
        std::string text =
            fmt::format("no flat{}{}; vignetting and dust stay in", e.filter.empty() ? "" : " of filter " + e.filter,
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
             fmt::format("taken at another camera angle ({:g} degrees) than their flats ({:g}): the camera was turned "
                         "between them",
                         *e.rotator, *first(result_.masters[*c.flat]).rotator),
             "Take flats again after turning the camera", e);
}

void Pairer::report() {
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

std::string seconds_text(const std::optional<double>& seconds) {
    return seconds ? fmt::format("{:g} s", *seconds) : "unknown exposure";
}

Pairing pair_frames(const std::vector<Exposure>& exposures, const PairingOptions& options) {
    return Pairer(exposures, options).run();
}

} // namespace kasane
