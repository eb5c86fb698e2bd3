#include <kasane/stages/reference_groups.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/rules.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/stages/calibrations.hpp>
#include <kasane/stages/joint_stacks.hpp>
#include <kasane/stages/outside_image.hpp>

#include <algorithm>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

std::string own_grid(const std::string& target, const std::string& sensor) {
    return "own grid/" + file_safe(target) + "/" + sensor;
}

} // namespace

std::string reference_group_name(const Session& session, const StackPlan& s) {
    std::string name = file_safe(s.target);
    if (session.ledger.choice(own_grid(s.target, s.sensor))) name += "/" + s.sensor;
    const ColourMethod m = colour_method(session, session.exposures[s.lights.front().exposure]);
    if (s.mosaic && m != ColourMethod::adaptive && m != ColourMethod::bilinear) name += " binned";
    return name;
}

void give_own_grid(Session& session, const std::string& target, const std::string& sensor) {
    session.ledger.set_choice(own_grid(target, sensor), "shows another sky");
}

std::vector<ReferenceGroup> reference_groups(const Session& session) {
    std::vector<ReferenceGroup> groups;
    for (std::size_t i = 0; i < session.pairing.stacks.size(); ++i) {
        const std::string name = reference_group_name(session, session.pairing.stacks[i]);
        auto it = std::find_if(groups.begin(), groups.end(), [&](const ReferenceGroup& g) { return g.name == name; });
        if (it == groups.end()) it = groups.insert(groups.end(), {name, {}});
        it->stacks.push_back(i);
    }
    return groups;
}

bool names_exposure(const std::string& wish, const fs::path& project, const std::string& path) {
    if (path == wish || glob_matches(wish, path)) return true; // a glob, or a name without its folder
    std::error_code failed;
    const fs::path here = fs::weakly_canonical(wish, failed), there = fs::weakly_canonical(project, failed);
    return path == fs::proximate(here, there, failed).generic_string();
}

std::set<std::string> wished_references(const Session& s, const ReferenceGroup& group) {
    std::set<std::string> out;
    const std::string& wish = s.recipe.registration.reference;
    if (wish.empty()) return out;
    for (const std::size_t i : group.stacks)
        for (const LightPlan& l : s.pairing.stacks[i].lights)
            if (const Exposure& e = s.exposures[l.exposure]; names_exposure(wish, s.options.folder, e.path))
                out.insert(e.identity);
    return out;
}

std::optional<Finding> reference_finding(const Session& s) {
    const RegistrationRecipe& r = s.recipe.registration;
    if (!r.onto.empty()) {
        if (outside_identity(s)) return std::nullopt;
        return Finding{Level::blocker,
                       "reference-missing",
                       {r.onto},
                       "the image that all lights should be brought onto ([registration] onto) cannot be read",
                       "Put it back, name another one, or take the line out of kasane.toml"};
    }
    if (r.reference.empty()) return std::nullopt;
    for (const ReferenceGroup& g : reference_groups(s))
        if (!wished_references(s, g).empty()) return std::nullopt;
    return Finding{Level::blocker,
                   "reference-missing",
                   {},
                   fmt::format("\"{}\" ([registration] reference) names no light of the project", r.reference),
                   "Write the path as 'kasane grade' shows it, or a glob in quotes: \"night-2/lights/L_004*\"; "
                   "\"auto\" leaves the choice to the pixels"};
}

std::string reference_choice(const Session& s, const ReferenceGroup& group) {
    return (wished_references(s, group).empty() ? "reference/" : "reference by hand/") + group.name;
}

/// From the ledger, else from the header of a master light that is there, so that a new night does not move finished
/// master lights.
std::string remembered_reference(const Session& s, const ReferenceGroup& group) {
    if (!s.recipe.registration.onto.empty()) return outside_identity(s).value_or("");
    const std::set<std::string> wished = wished_references(s, group);
    if (wished.size() == 1) return *wished.begin();
    if (!wished.empty()) {
        const auto standing = standing_choice(s, reference_choice(s, group));
        return standing && wished.count(*standing) ? *standing : "";
    }
    std::set<std::string> here;
    for (const std::size_t i : group.stacks)
        for (const LightPlan& l : s.pairing.stacks[i].lights)
            here.insert(s.exposures[l.exposure].identity);
    if (s.ledger.choice("reference/" + group.name)) {
        const auto standing = standing_choice(s, "reference/" + group.name);
        return standing && here.count(*standing) ? *standing : "";
    }
    for (const JointStack& stack : joint_stacks(s, group)) {
        std::error_code failed;
        const fs::path file = s.output / "lights" / (stack.plan.name + ".fits");
        if (!fs::exists(file, failed)) continue;
        Header header;
        if (attempt([&] { header = read_fits_summary(file).header; })) continue; // damaged: it is simply made again
        const auto text = header.text("REFPRINT");
        if (text && here.count(*text) && !header.find("UNREAD")) return *text;
    }
    return {};
}

} // namespace kasane
