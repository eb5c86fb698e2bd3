// How pair_frames works, in four parts: grouping.cpp makes masters and stacks of exposures, names.cpp names them,
// matching.cpp chooses what calibrates a light, pairing.cpp goes through all and tells. Use pairing/pairing.hpp.
#pragma once

#include <kasane/pairing/pairing.hpp>

#include <algorithm>
#include <cmath>
#include <cstddef>
#include <fmt/format.h>
#include <initializer_list>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <tuple>
#include <utility>
#include <vector>

namespace kasane {

inline bool same_number(const std::optional<double>& a, const std::optional<double>& b) {
    return !a || !b || std::abs(*a - *b) < 1e-6 * std::max(1.0, std::abs(*a));
}

inline std::optional<double> difference(const std::optional<double>& a, const std::optional<double>& b) {
    return a && b ? std::optional(std::abs(*a - *b)) : std::nullopt;
}

inline std::string number_text(const std::optional<double>& v, const char* unit = "") {
    return v ? fmt::format("{:g}{}", *v, unit) : "unknown";
}

constexpr double kSameAngle = 2; // degrees of a rotator

class Pairer {
public:
    Pairer(const std::vector<Exposure>& exposures, const PairingOptions& options);

    Pairing run();

private:
    /// Time, then content, so that names of files and folders do not matter.
    std::tuple<double, const std::string&, const std::string&> rank(std::size_t i) const {
        return {all_[i].time.value_or(0), all_[i].identity, all_[i].path};
    }

    const Exposure& first(const MasterPlan& m) const { return all_[m.members.front()]; }
    void finding(Level level, std::string code, std::vector<std::string> files, std::string text, std::string remedy);

    /// The same content twice would count twice. The shortest path stays.
    void drop_duplicates();

    /// The filters that lights and flats of each sensor name.
    void find_filters();

    void place(std::size_t i);

    /// Frames that have gain and offset in common, where they know them.
    std::vector<std::vector<std::size_t>> by_setting(std::vector<std::size_t> list) const;

    /// What single frames of one master have in common, temperatures and exposures apart.
    std::string calibration_key(std::size_t i) const;

    void add_master(std::vector<std::size_t> members, bool existing);

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

    void make_masters();

    /// Masters that Kasane made of frames which are here: the frames speak for themselves. Of just these frames, they
    /// are found again when they are asked for; of others too, or of fewer, they are superseded.
    void drop_finished(const std::vector<std::vector<std::size_t>>& groups);

    /// Targets whose names say that they are panels of one.
    void find_panels();
    /// What an exposure shows, panels of one target under its name.
    const std::string& target_of(std::size_t i) const;

    bool same_stack(const StackPlan& s, std::size_t light) const;

    void place_light(std::size_t i);

    /// What a name stands for, and what tells it from others that would have the same one, the most telling first.
    struct Naming {
        std::string* name;
        std::string wanted, identity;
        std::vector<std::string> marks;
        std::string* note;
    };

    static std::string mark_of(const Exposure& e, Field field);

    static std::vector<std::string> marks_of(const Exposure& e, std::initializer_list<Field> fields);

    /// Names given before stay; of the others, those that want the same one are told apart by what differs between
    /// them, and only where nothing does by a number.
    void give_names(std::vector<Naming>& all);

    void name_all();

    /// Why a master cannot calibrate an exposure, where frames must agree; empty: it can.
    NearMiss must_agree(const MasterPlan& m, const Exposure& e) const;

    bool sensors_agree(const MasterPlan& m, std::size_t e) const;

    bool exposure_fits(const std::optional<double>& a, const std::optional<double>& b) const {
        return !a || !b || std::abs(*a - *b) <= options_.exposure_tolerance * std::max(*a, *b) + 1e-3;
    }

    /// Nearest wins: same temperature to a degree, night, time, temperature; all else equal, frames before a master.
    std::tuple<int, int, double, double, int> nearness(const MasterPlan& m, const Exposure& e) const;

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
    void tell_flat_offset(const MasterPlan& flat, Level level, const char* code, std::string text, const char* remedy);

    void choose_flat_offset(MasterPlan& flat);

    /// What calibrates lights of these properties; lights that agree in them are paired once.
    std::string light_key(std::size_t i) const;

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

    DarkChoice choose_dark(std::size_t i) const;

    bool filter_fits(const MasterPlan& m, const Exposure& e) const;

    /// Flats or lights without a filter, where nothing contradicts that it is the same.
    bool filter_may_fit(const MasterPlan& m, std::size_t i) const;

    struct FlatChoice {
        std::optional<std::size_t> flat;
        std::string reason = "none";
        bool other_night = false, turned = false, filter_unknown = false;
    };

    FlatChoice choose_flat(std::size_t i) const;

    std::vector<NearMiss> near_misses(std::size_t i, const DarkChoice& dark, const FlatChoice& flat) const;

    void pair_stack(StackPlan& s);

    template <class Tell>
    void tell_dark(const DarkChoice& c, const Exposure& e, Tell tell) const;

    template <class Tell>
    void tell_flat(const FlatChoice& c, const Exposure& e, const std::vector<NearMiss>& misses, Tell tell) const;

    void report();

    const std::vector<Exposure>& all_;
    PairingOptions options_;
    std::map<std::string, std::size_t> sensors_;
    std::map<std::string, std::size_t> geometries_;
    std::vector<std::size_t> sensor_;   ///< of each exposure: frames with the same number are of one camera
    std::vector<std::size_t> geometry_; ///< the same without the camera's name, which some files lack
    std::vector<std::size_t> order_;
    std::map<std::string, std::vector<std::size_t>> calibration_;
    std::map<std::size_t, std::set<std::string>> filters_; ///< by geometry
    std::map<std::string, std::string> panels_;            ///< targets by the names of their panels, squeezed
    Pairing result_;
    std::vector<std::string> unplaced_, colour_images_;
    std::vector<std::pair<std::string, Finding>> flat_findings_; ///< by the flats' name
};

} // namespace kasane
