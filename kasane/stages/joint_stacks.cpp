#include <kasane/stages/joint_stacks.hpp>

#include <kasane/base/hash.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/stages/results.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>
#include <tuple>

namespace kasane {

namespace {

/// Stacks that agree in this differ in nothing but the rig.
using Kind = std::tuple<std::string, std::string, int, std::string>;

Kind kind_of(const Session& s, const StackPlan& plan) {
    std::string apart; // what the recipe keeps apart stays so
    for (const Field f : s.recipe.pairing.separate)
        apart += value_text(s.exposures[plan.lights.front().exposure], f) + "|";
    return {squeezed(plan.target), plain_letters(plan.filter), result_planes(s, plan), apart};
}

} // namespace

std::string common_words(const std::string& a, const std::string& b) {
    const auto ends = [](const std::string& name, std::size_t at) { return at == name.size() || name[at] == '-'; };
    std::size_t n = 0, words = 0;
    for (; n <= std::min(a.size(), b.size()); ++n) {
        if (ends(a, n) && ends(b, n)) words = n;
        if (n < std::min(a.size(), b.size()) && a[n] != b[n]) break;
    }
    return a.substr(0, words);
}

namespace {

StackPlan joined(const Session& s, const std::vector<std::size_t>& parts) {
    std::vector<const StackPlan*> plans;
    for (const std::size_t k : parts)
        plans.push_back(&s.pairing.stacks[k]);
    StackPlan out = *plans.front();
    std::string identities;
    std::set<std::string> sensors;
    out.lights.clear();
    out.groups.clear();
    for (const StackPlan* p : plans) {
        out.name = common_words(out.name, p->name);
        out.mosaic = out.mosaic || p->mosaic;
        identities += p->identity;
        sensors.insert(p->sensor);
        out.lights.insert(out.lights.end(), p->lights.begin(), p->lights.end());
    }
    out.identity = digest("together|" + identities);
    out.sensor = fmt::format("{}", fmt::join(sensors, " + "));
    if (out.name.empty()) out.name = plans.front()->name;
    out.name += "-together";
    for (const StackPlan& other : s.pairing.stacks)
        if (other.name == out.name) out.name += "-" + out.identity.substr(0, 6);
    out.name_note = fmt::format("{} rigs together", parts.size());
    return out;
}

} // namespace

std::vector<JointStack> joint_stacks(const Session& s, const ReferenceGroup& group) {
    std::vector<JointStack> out;
    std::map<Kind, std::vector<std::size_t>> kinds;
    for (const std::size_t k : group.stacks)
        kinds[kind_of(s, s.pairing.stacks[k])].push_back(k);
    for (const std::size_t k : group.stacks) { // in their order, each kind where its first stands
        const StackPlan& plan = s.pairing.stacks[k];
        if (!s.recipe.rigs_together) {
            out.push_back({plan, {k}});
            continue;
        }
        const std::vector<std::size_t>& parts = kinds.at(kind_of(s, plan));
        if (parts.front() != k) continue;
        out.push_back({parts.size() > 1 ? joined(s, parts) : plan, parts});
    }
    return out;
}

std::vector<Finding> joint_findings(const Session& s) {
    std::vector<Finding> out;
    if (!s.recipe.rigs_together) return out;
    std::map<Kind, std::vector<std::string>> apart; // of one target and filter, as mono or in colour
    for (const ReferenceGroup& group : reference_groups(s))
        for (const JointStack& joint : joint_stacks(s, group)) {
            std::vector<std::string> names;
            for (const std::size_t k : joint.parts)
                names.push_back(s.pairing.stacks[k].name);
            Kind kind = kind_of(s, joint.plan);
            std::get<int>(kind) = 0;
            apart[kind].push_back(joint.plan.name);
            if (names.size() > 1)
                out.push_back({Level::note,
                               "rigs-together",
                               {},
                               fmt::format("{} become one master light, {}: [pairing] rigs says so",
                                           fmt::join(names, " and "), joint.plan.name),
                               ""});
        }
    for (const auto& [kind, names] : apart)
        if (names.size() > 1)
            out.push_back({Level::warning,
                           "rigs-apart",
                           {},
                           fmt::format("{} do not become one master light, though [pairing] rigs says so: their lights "
                                       "show different skies, one is mono and the other in colour, or its colours have "
                                       "a grid of half the size",
                                       fmt::join(names, " and ")),
                           "Look at one of each with 'kasane show'"});
    return out;
}

} // namespace kasane
