#include <kasane/pairing/checks.hpp>

#include <kasane/pairing/neighbours.hpp>

#include <kasane/frames/nights.hpp>
#include <kasane/frames/words.hpp>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <map>
#include <set>

namespace kasane {

namespace {

constexpr int kFewLights = 5, kFewCalibration = 8;  // frames below which outliers are found poorly
constexpr double kTooBright = 0.85, kTooDim = 0.05; // shares of the full scale on a flat
constexpr double kWarmBias = 10;                    // degrees above the lights
constexpr double kClockSlack = 2;                   // seconds by which exposures may seem to overlap
constexpr double kYear = 365.25 * 86400;

class Checker {
public:
    Checker(const std::vector<Exposure>& all, const Pairing& pairing, const std::vector<std::optional<Look>>& looks)
        : all_(all), pairing_(pairing), looks_(looks) {}

    std::vector<Finding> run() {
        few_frames();
        mixed_gain();
        mosaics();
        sizes();
        flat_levels();
        warm_bias();
        not_linear();
        clocks();
        dark_lights();
        problems();
        guesses();
        names();
        contradictions();
        times();
        return std::move(findings_);
    }

private:
    using Files = std::vector<std::string>;

    void finding(Level level, std::string code, Files files, std::string text, std::string remedy) {
        std::sort(files.begin(), files.end());
        findings_.push_back({level, std::move(code), std::move(files), std::move(text), std::move(remedy)});
    }

    Files paths(const std::vector<std::size_t>& list) const {
        Files out;
        for (const std::size_t i : list)
            out.push_back(all_[i].path);
        return out;
    }

    std::vector<std::size_t> lights_of(const StackPlan& s) const {
        std::vector<std::size_t> out;
        for (const LightPlan& l : s.lights)
            out.push_back(l.exposure);
        return out;
    }

    bool is_used(std::size_t master) const {
        for (const StackPlan& s : pairing_.stacks)
            for (const LightPlan& l : s.lights)
                for (const auto& m : {l.dark, l.bias, l.flat})
                    if (m && (*m == master || pairing_.masters[*m].offset == master)) return true;
        return false;
    }

    void few_frames() {
        for (const StackPlan& s : pairing_.stacks)
            if (s.lights.size() < kFewLights)
                finding(Level::note, "too-few-lights", paths(lights_of(s)),
                        fmt::format("{} has only {} light{}: trails and cosmic rays can hardly be told from the sky",
                                    s.name, s.lights.size(), s.lights.size() == 1 ? "" : "s"),
                        fmt::format("Take {} or more", kFewLights));
        for (std::size_t i = 0; i < pairing_.masters.size(); ++i) {
            const MasterPlan& m = pairing_.masters[i];
            if (!m.existing && m.members.size() < kFewCalibration && is_used(i))
                finding(Level::note, "too-few-frames", paths(m.members),
                        fmt::format("{} has only {} frame{}; its noise goes into every light", m.name, m.members.size(),
                                    m.members.size() == 1 ? "" : "s"),
                        "Take a couple of dozen");
        }
    }

    void mixed_gain() {
        for (const StackPlan& s : pairing_.stacks) {
            std::map<std::pair<double, double>, std::vector<std::size_t>> by_setting;
            for (const LightPlan& l : s.lights)
                if (all_[l.exposure].gain)
                    by_setting[{*all_[l.exposure].gain, all_[l.exposure].offset.value_or(0)}].push_back(l.exposure);
            if (by_setting.size() < 2) continue;
            const auto fewest = std::min_element(by_setting.begin(), by_setting.end(),
                                                 [](auto& a, auto& b) { return a.second.size() < b.second.size(); });
            std::string list;
            for (const auto& [setting, files] : by_setting)
                list += fmt::format("{}{} at gain {:g} offset {:g}", list.empty() ? "" : ", ", files.size(),
                                    setting.first, setting.second);
            finding(Level::warning, "gain-mixed", paths(fewest->second),
                    fmt::format("the lights of {} have different gains or offsets ({})", s.name, list),
                    "Each needs darks and flats of its own settings; separate = [\"gain\"] makes stacks of them");
        }
    }

    void mosaics() {
        // Lights and flats that look like a mosaic, and no pattern is known.
        std::map<std::string, std::vector<std::size_t>> unknown;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            const bool lit = e.role == Role::light || e.role == Role::flat;
            if (!lit || !looks_[i] || !e.cfa.empty() || e.planes != 1 || e.is_master) continue;
            const Look& k = *looks_[i];
            // Medians of a thousand pixels each: steps of a few percent of the noise are chance, colours are more.
            const bool even =
                k.clipped > 0 || k.level > kTooBright * k.full_scale; // burnt out: no noise to compare with
            if (!even && k.phase_spread > 0.6 * k.noise && k.phase_spread > 0.02 * std::abs(k.level))
                unknown[e.camera].push_back(i);
        }
        for (auto& [camera, list] : unknown)
            finding(
                Level::warning, "cfa-unknown", paths(list),
                fmt::format("{} file{} of {} look like the mosaic of a colour sensor, but no header says its pattern",
                            list.size(), list.size() == 1 ? "" : "s", camera.empty() ? "an unnamed camera" : camera),
                "Give it in the recipe: cfa = \"RGGB\" (or as the maker says) in [assume]");
        // Frames of one camera and size that disagree on it.
        std::map<std::string, std::map<std::string, std::vector<std::size_t>>> patterns;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            if (e.role != Role::unknown && e.planes == 1 && !(e.role == Role::light && e.is_master))
                patterns[fmt::format("{} {}x{}", e.camera, e.width, e.height)][e.cfa].push_back(i);
        }
        for (auto& [camera, by_pattern] : patterns) {
            if (by_pattern.size() < 2) continue;
            const auto fewest = std::min_element(by_pattern.begin(), by_pattern.end(),
                                                 [](auto& a, auto& b) { return a.second.size() < b.second.size(); });
            std::string list;
            for (const auto& [pattern, files] : by_pattern)
                list += fmt::format("{}{} {}", list.empty() ? "" : ", ", files.size(),
                                    pattern.empty() ? "without" : "with " + pattern);
            finding(
                Level::warning, "cfa-differs", paths(fewest->second),
                fmt::format(
                    "frames of one camera differ in their colour filter array ({}), so they cannot be used together",
                    list),
                "If a header forgot it, give it in the recipe: cfa in [assume] or [[files]]");
        }
    }

    void sizes() {
        std::map<std::string, std::map<std::pair<int, int>, std::vector<std::size_t>>> lights, others;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            if (e.role == Role::unknown || e.planes != 1 || (e.role == Role::light && e.is_master)) continue;
            (e.role == Role::light ? lights : others)[e.camera][{e.width, e.height}].push_back(i);
        }
        for (auto& [camera, by_size] : lights) {
            if (by_size.size() < 2) continue;
            const auto fewest = std::min_element(by_size.begin(), by_size.end(),
                                                 [](auto& a, auto& b) { return a.second.size() < b.second.size(); });
            std::string list;
            for (const auto& [size, files] : by_size)
                list += fmt::format("{}{} of {} x {} pixels", list.empty() ? "" : ", ", files.size(), size.first,
                                    size.second);
            finding(Level::warning, "light-sizes-differ", paths(fewest->second),
                    fmt::format("the lights of {} have different sizes ({}); each size becomes a stack of its own",
                                camera.empty() ? "this folder" : camera, list),
                    "Check binning and cropping if they were meant to be one stack");
        }
        for (auto& [camera, by_size] : others) {
            const auto known = lights.find(camera);
            if (known == lights.end()) continue;
            for (auto& [size, files] : by_size) {
                if (known->second.count(size)) continue;
                const bool turned = known->second.count({size.second, size.first}) > 0;
                const auto& light = known->second.begin()->first;
                if (turned)
                    finding(Level::warning, "orientation-differs", paths(files),
                            fmt::format(
                                "{} calibration frame{} of {} x {} pixels; the lights are {} x {}: width and height "
                                "are swapped, as if turned by 90 degrees",
                                files.size(), files.size() == 1 ? " is" : "s are", size.first, size.second, size.second,
                                size.first),
                            "Compare a flat with a light; if it is turned, give turn = 90 (or 270) for these files in "
                            "[[files]]. It is never done unasked");
                else
                    finding(Level::warning, "size-mismatch", paths(files),
                            fmt::format(
                                "{} calibration frame{} of {} x {} pixels; the lights of this camera are {} x {}: they "
                                "cannot be used",
                                files.size(), files.size() == 1 ? " is" : "s are", size.first, size.second, light.first,
                                light.second),
                            "Use frames of the same binning and without cropping");
            }
        }
        // The same size, but a flag that says turned.
        std::map<std::string, std::map<int, std::vector<std::size_t>>> flags;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            if ((e.role == Role::light || e.role == Role::flat) && e.format != Format::camera_raw && e.turn == 0)
                flags[e.camera][e.orientation].push_back(i);
        }
        for (auto& [camera, by_flag] : flags) {
            if (by_flag.size() < 2) continue;
            const auto fewest = std::min_element(by_flag.begin(), by_flag.end(),
                                                 [](auto& a, auto& b) { return a.second.size() < b.second.size(); });
            finding(
                Level::warning, "orientation-differs", paths(fewest->second),
                fmt::format(
                    "the orientation flags of lights and flats differ ({} here); pixels are used as they are stored",
                    fewest->first),
                "Compare a flat with a light; if one is turned, give its turn in [[files]]");
        }
    }

    void flat_levels() {
        std::map<std::string, double> floors, tops; // of a sensor: level of its darkest frame, highest value seen
        for (std::size_t i = 0; i < all_.size(); ++i)
            if (looks_[i] && looks_[i]->windows > 0) {
                const double level = looks_[i]->level;
                const auto [it, fresh] = floors.try_emplace(sensor_key(all_[i]), level);
                if (!fresh) it->second = std::min(it->second, level);
                double& top = tops[sensor_key(all_[i])];
                top = std::max(top, looks_[i]->highest);
            }
        std::vector<std::size_t> bright, dim;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            if (e.role != Role::flat || e.is_master || !looks_[i] || looks_[i]->windows == 0) continue;
            const Look& k = *looks_[i];
            const double full = e.saturation.value_or(std::min(k.full_scale, full_scale_above(tops[sensor_key(e)])));
            if (k.clipped > 0.01 || k.shape_high > 0.97 * full || k.level > kTooBright * full) bright.push_back(i);
            const double signal = k.level - std::min(floors[sensor_key(e)], 0.1 * full);
            if (signal < kTooDim * full) dim.push_back(i);
        }
        if (!bright.empty())
            finding(Level::warning, "flat-saturated", paths(bright),
                    fmt::format("{} flat{} so bright that pixels saturate: there they correct nothing", bright.size(),
                                bright.size() == 1 ? " is" : "s are"),
                    "Take flats at a third to a half of the full scale, and leave these out");
        if (!dim.empty())
            finding(Level::warning, "flat-too-dark", paths(dim),
                    fmt::format("{} flat{} below {:.0f} % of the full scale: their noise goes into the lights",
                                dim.size(), dim.size() == 1 ? " is" : "s are", 100 * kTooDim),
                    "Take flats at a third to a half of the full scale");
    }

    void warm_bias() {
        std::set<std::size_t> told;
        for (const StackPlan& s : pairing_.stacks)
            for (const LightPlan& l : s.lights) {
                const auto warm = all_[l.exposure].sensor_temperature();
                std::vector<std::optional<std::size_t>> used = {l.dark, l.bias};
                if (l.flat) used.push_back(pairing_.masters[*l.flat].offset);
                for (const auto& m : used) {
                    if (!m || pairing_.masters[*m].role != Role::bias || !warm || !pairing_.masters[*m].temperature)
                        continue;
                    if (*pairing_.masters[*m].temperature < *warm + kWarmBias || !told.insert(*m).second) continue;
                    finding(
                        Level::warning, "bias-warmer", paths(pairing_.masters[*m].members),
                        fmt::format("{} was taken {:.0f} C warmer than the lights of {}; its level may have drifted",
                                    pairing_.masters[*m].name, *pairing_.masters[*m].temperature - *warm, s.name),
                        "Take bias frames at the temperature of the lights");
                }
            }
    }

    void not_linear() {
        std::vector<std::size_t> list;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            const bool coarse = e.bits == 8 && e.format != Format::fits;
            if (!e.linear || coarse) list.push_back(i);
        }
        if (!list.empty())
            finding(Level::warning, "not-linear", paths(list),
                    fmt::format("{} file{} 8-bit picture{} ({}): levels are not proportional to light, calibration and "
                                "weights will be wrong",
                                list.size(), list.size() == 1 ? " is an" : "s are", list.size() == 1 ? "" : "s",
                                format_name(all_[list.front()].format)),
                    "Use the camera's raw files, or 16-bit linear TIFF");
    }

    /// The running number at the end of a file's name, and what stands before it.
    static std::optional<std::pair<std::string, long>> numbered(const std::string& path) {
        const auto dot = path.rfind('.');
        const std::string stem =
            path.substr(0, dot == std::string::npos || dot < path.rfind('/') + 1 ? path.size() : dot);
        std::size_t at = stem.size();
        while (at > 0 && std::isdigit(static_cast<unsigned char>(stem[at - 1])))
            --at;
        if (at == stem.size() || stem.size() - at > 9) return std::nullopt;
        return std::pair(stem.substr(0, at), std::stol(stem.substr(at)));
    }

    void clocks() {
        std::map<std::string, std::map<long, std::size_t>> runs; // by folder and stem, then number
        std::vector<double> times;
        for (std::size_t i = 0; i < all_.size(); ++i) {
            if (!all_[i].time || all_[i].is_master) continue;
            if (all_[i].role == Role::light) times.push_back(*all_[i].time);
            if (const auto n = numbered(all_[i].path)) runs[n->first].emplace(n->second, i);
        }
        std::set<std::size_t> back;
        for (const auto& [stem, run] : runs) {
            const Exposure* before = nullptr;
            for (const auto& [number, i] : run) {
                const Exposure& e = all_[i];
                if (before && before->camera == e.camera &&
                    *e.time < *before->time + before->seconds.value_or(0) - kClockSlack && *e.time < *before->time)
                    back.insert(i);
                before = &e;
            }
        }
        std::sort(times.begin(), times.end());
        std::set<std::size_t> far;
        for (std::size_t i = 0; i < all_.size() && !times.empty(); ++i) {
            const Exposure& e = all_[i];
            if (e.role == Role::light && e.time && std::abs(*e.time - times[times.size() / 2]) > 20 * kYear)
                far.insert(i);
        }
        for (const std::size_t i : far)
            back.erase(i);
        if (!back.empty())
            finding(
                Level::warning, "clock-jump", paths({back.begin(), back.end()}),
                fmt::format("{} begin{} before the frame{} numbered before: the clock jumped back, nights may be wrong",
                            back.size() == 1 ? "it" : fmt::format("{} files", back.size()), back.size() == 1 ? "s" : "",
                            back.size() == 1 ? "" : "s"),
                "Give the right night (or start) for these files in [[files]]");
        if (!far.empty())
            finding(Level::warning, "clock-jump", paths({far.begin(), far.end()}),
                    fmt::format("{} dated {}, decades from the others: the camera's clock was not set",
                                far.size() == 1 ? "it is" : fmt::format("{} files are", far.size()),
                                all_[*far.begin()].night),
                    "Give the right night (or start) for these files in [[files]]");
    }

    void dark_lights() {
        std::map<std::string, double> ceilings; // of a sensor: level of its brightest dark or bias
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            if (!looks_[i] || looks_[i]->windows == 0 || e.is_master) continue;
            if (e.role != Role::dark && e.role != Role::bias) continue;
            const auto [it, fresh] = ceilings.try_emplace(sensor_key(e), looks_[i]->level);
            if (!fresh) it->second = std::max(it->second, looks_[i]->level);
        }
        std::vector<std::size_t> list;
        for (const StackPlan& s : pairing_.stacks) {
            std::vector<double> noises;
            for (const LightPlan& l : s.lights)
                if (looks_[l.exposure]) noises.push_back(looks_[l.exposure]->noise);
            std::sort(noises.begin(), noises.end());
            for (const LightPlan& l : s.lights) {
                const auto& seen = looks_[l.exposure];
                if (!seen || seen->windows == 0) continue;
                const auto ceiling = ceilings.find(sensor_key(all_[l.exposure]));
                const bool as_dark = ceiling != ceilings.end() && seen->level <= ceiling->second + seen->noise;
                // No more sky than a dark has, no stars, and less noise than the other lights.
                const bool quiet = noises.size() < 3 || seen->noise < 0.8 * noises[noises.size() / 2];
                if (as_dark && seen->stars == 0 && quiet) list.push_back(l.exposure);
            }
        }
        if (!list.empty())
            finding(Level::warning, "light-looks-dark", paths(list),
                    fmt::format("{} called light{} but show{} no sky and no stars, like a dark",
                                list.size() == 1 ? "it is" : fmt::format("{} files are", list.size()),
                                list.size() == 1 ? "" : "s", list.size() == 1 ? "s" : ""),
                    "If the cap was on, move it to the darks, or give role = \"dark\" in [[files]]");
    }

    void problems() {
        std::map<std::string, Files> by_problem;
        for (const Exposure& e : all_)
            for (const std::string& p : e.problems)
                by_problem[p].push_back(e.path);
        constexpr std::size_t kShown = 20;
        std::size_t shown = 0;
        for (auto& [problem, files] : by_problem) {
            if (++shown > kShown) break;
            finding(Level::warning, "value-unusable", std::move(files), fmt::format("{}; it is not used", problem),
                    "Give the right value in [[files]] if it matters");
        }
    }

    void guesses() {
        std::map<Role, std::vector<std::size_t>> guessed;
        for (std::size_t i = 0; i < all_.size(); ++i)
            if (all_[i].source(Field::role).origin == Origin::pixels && all_[i].role != Role::unknown) {
                guessed[all_[i].role].push_back(i);
            }
        for (auto& [role, list] : guessed) {
            double lowest = 1;
            for (const std::size_t i : list)
                lowest = std::min(lowest, all_[i].role_confidence);
            finding(Level::note, "role-from-pixels", paths(list),
                    fmt::format("{} file{} taken for {} by {} pixels alone (confidence {:.0f} % or more)", list.size(),
                                list.size() == 1 ? " was" : "s were", role == Role::light ? "lights" : role_name(role),
                                list.size() == 1 ? "its" : "their", std::min(99.0, 100 * lowest)),
                    "Check them with 'kasane scan'; give their role in the recipe if one is wrong");
        }
    }

    void names() {
        for (const StackPlan& s : pairing_.stacks)
            if (!s.name_note.empty())
                finding(Level::note, "name-changed", {}, fmt::format("{}; the stack is called {}", s.name_note, s.name),
                        "");
    }

    /// What the names of a file's folders say: of each kind the innermost that is sure.
    struct FolderWords {
        Role role = Role::unknown;
        std::string role_folder, filter, filter_folder; ///< the filter in plain letters
    };
    static FolderWords words_of_folders(std::filesystem::path folder) {
        FolderWords w;
        for (; !folder.empty() && folder != folder.root_path(); folder = folder.parent_path()) {
            const std::string name = folder.filename().string();
            if (const NamedRole r = role_of_name(name); w.role == Role::unknown && r.sure) {
                w.role = r.role;
                w.role_folder = name;
            }
            if (const NamedFilter f = filter_of_name(name); w.filter.empty() && f.strength == FilterWord::word) {
                w.filter = plain_letters(fold_filter(f.name));
                w.filter_folder = name;
            }
        }
        return w;
    }

    /// What a header says against what the folder says; the header is trusted.
    void contradictions() {
        std::map<std::string, std::vector<std::size_t>> roles, filters;
        std::map<std::string, FolderWords> said; // thousands of files lie in a few folders
        for (std::size_t i = 0; i < all_.size(); ++i) {
            const Exposure& e = all_[i];
            if (e.made_by_kasane || e.role == Role::unknown) continue;
            const auto from_file = [&](Field f) {
                const Origin o = e.source(f).origin;
                return o == Origin::header || o == Origin::exif;
            };
            const auto slash = e.path.find_last_of('/');
            const auto [known, fresh] = said.try_emplace(slash == std::string::npos ? "" : e.path.substr(0, slash));
            if (fresh) known->second = words_of_folders(known->first);
            const FolderWords& w = known->second;
            // Frames without light often lie together, and beside the flats that they belong to.
            const auto lit = [](Role role) { return role == Role::light || role == Role::flat; };
            const bool beside = !lit(e.role) && w.role != Role::light;
            if (from_file(Field::role) && w.role != Role::unknown && w.role != e.role && !beside)
                roles[fmt::format("{}\n{}\n{}", role_name(e.role), w.role_folder, role_name(w.role))].push_back(i);
            if (from_file(Field::filter) && !w.filter.empty() && !e.filter.empty() && lit(e.role) &&
                w.filter != plain_letters(e.filter))
                filters[e.filter + "\n" + w.filter_folder].push_back(i);
        }
        const auto tell = [&](const auto& found, const char* code, const char* what, const char* field) {
            for (const auto& [key, list] : found) {
                const auto line = key.find('\n');
                std::string folder = key.substr(line + 1);
                folder = folder.substr(0, folder.find('\n'));
                finding(Level::warning, code, paths(list),
                        fmt::format("the header{} say{} {}{}, the name of the folder is {}; the header is believed",
                                    list.size() == 1 ? "" : fmt::format("s of {} files", list.size()),
                                    list.size() == 1 ? "s" : "", what, key.substr(0, line), folder),
                        fmt::format("Move {}, or give the right {} in [[files]]",
                                    list.size() == 1 ? "it where it belongs" : "them where they belong", field));
            }
        };
        tell(roles, "role-contradicted", "", "role");
        tell(filters, "filter-contradicted", "filter ", "filter");
    }

    /// Lights without an exposure time beside others that have one cannot be compared a second; where none has one, all
    /// are compared as they are.
    void times() {
        std::vector<std::size_t> some, none;
        for (const StackPlan& s : pairing_.stacks) {
            std::vector<std::size_t> unknown;
            for (const LightPlan& l : s.lights)
                if (!(all_[l.exposure].seconds.value_or(0) > 0)) unknown.push_back(l.exposure);
            auto& list = unknown.size() == s.lights.size() ? none : some;
            list.insert(list.end(), unknown.begin(), unknown.end());
        }
        const char* kRemedy = "Give it with 'seconds' in [[files]] or [assume]";
        if (!some.empty())
            finding(Level::warning, "exposure-time-unknown", paths(some),
                    fmt::format(
                        "{} light{} no exposure time, others of the stack have: transparency, worth and sky are not "
                        "compared a second there (limits on them pass over); weights come from the stars",
                        some.size(), some.size() == 1 ? " has" : "s have"),
                    kRemedy);
        if (!none.empty())
            finding(Level::note, "exposure-time-unknown", paths(none),
                    fmt::format("{} light{} no exposure time, nor has any other of the stack: they are compared as if "
                                "all were equally long",
                                none.size(), none.size() == 1 ? " has" : "s have"),
                    kRemedy);
    }

    const std::vector<Exposure>& all_;
    const Pairing& pairing_;
    const std::vector<std::optional<Look>>& looks_;
    std::vector<Finding> findings_;
};

} // namespace

std::vector<Finding> check_frames(const std::vector<Exposure>& exposures, const Pairing& pairing,
                                  const std::vector<std::optional<Look>>& looks) {
    std::vector<Finding> findings = Checker(exposures, pairing, looks).run();
    for (Finding& f : neighbouring_targets(exposures, pairing))
        findings.push_back(std::move(f));
    return findings;
}

} // namespace kasane
