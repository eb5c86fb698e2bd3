#include <kasane/stages/shared_grid.hpp>

#include <kasane/registration/reference.hpp>
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/reference_groups.hpp>

#include <algorithm>
#include <map>

namespace kasane {

namespace {

constexpr std::size_t kLooked = 24; // lights of a sensor

using Lights = std::vector<std::shared_ptr<const ExposureMeasures>>;

std::vector<ReferenceCandidate> candidates_of(const Lights& lights) {
    std::vector<ReferenceCandidate> out;
    for (const auto& l : lights) {
        const Measures& m = l->main();
        out.push_back({&m.stars, l->width, l->height, m.fwhm, m.eccentricity, m.noise});
    }
    return out;
}

using Plans = std::map<std::string, std::vector<const LightPlan*>>;

/// The lights of a group by sensor.
Plans plans_by_sensor(const Session& s, const ReferenceGroup& group) {
    Plans plans;
    for (const std::size_t k : group.stacks)
        for (const LightPlan& l : s.pairing.stacks[k].lights)
            plans[s.pairing.stacks[k].sensor].push_back(&l);
    return plans;
}

/// Of many lights of a sensor some, spread over all of them.
std::map<std::string, Lights> measured(Session& s, Calibrations& calibrations, const Plans& plans) {
    std::map<std::string, Lights> out;
    for (const auto& [sensor, lights] : plans) {
        const std::size_t looked = std::min(kLooked, lights.size());
        std::vector<const LightPlan*> some;
        for (std::size_t k = 0; k < looked; ++k)
            some.push_back(lights[k * lights.size() / looked]);
        for (const Measured& m : measure_lights(s, calibrations, some))
            if (m.measures) out[sensor].push_back(m.measures);
    }
    return out;
}

/// How many lights of each sensor come onto the grid that most agree on.
std::map<std::string, int> placed(const std::map<std::string, Lights>& sensors, const Workers& workers) {
    std::vector<ReferenceCandidate> all;
    std::vector<std::string> sensor_of;
    for (const auto& [sensor, lights] : sensors)
        for (const ReferenceCandidate& c : candidates_of(lights)) {
            all.push_back(c);
            sensor_of.push_back(sensor);
        }
    std::map<std::string, int> out;
    for (const ReferenceMerit& m : rank_references(all, workers).best)
        ++out[sensor_of[m.frame]];
    return out;
}

} // namespace

void settle_grids(Session& s) {
    if (!s.recipe.registration.onto.empty()) return; // an image gives the grid of all
    Calibrations calibrations(s);
    for (const ReferenceGroup& group : reference_groups(s)) {
        const std::string settled = "grid settled/" + group.name;
        const Plans plans = plans_by_sensor(s, group);
        std::string names;
        for (const auto& [sensor, lights] : plans)
            names += sensor + " ";
        if (plans.size() < 2 || s.ledger.choice(settled) == names) continue;
        const auto sensors = measured(s, calibrations, plans);
        if (sensors.size() < plans.size()) continue; // another time
        const auto common = placed(sensors, s.context.workers);
        for (const auto& [sensor, lights] : sensors) {
            if (common.count(sensor)) continue;
            // Lights that agree with nothing, not even with each other, are but bad.
            constexpr std::size_t kAgree = 2;
            if (rank_references(candidates_of(lights), s.context.workers).best.size() < std::min(kAgree, lights.size()))
                continue;
            const auto of_it = [&](std::size_t k) { return s.pairing.stacks[k].sensor == sensor; };
            const auto k = std::find_if(group.stacks.begin(), group.stacks.end(), of_it);
            give_own_grid(s, s.pairing.stacks[*k].target, sensor);
        }
        s.ledger.set_choice(settled, names);
    }
}

} // namespace kasane
