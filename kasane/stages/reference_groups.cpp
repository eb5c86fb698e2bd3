#include <kasane/stages/reference_groups.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/stages/calibrations.hpp>

#include <algorithm>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

std::string reference_group_name(const Session& session, const StackPlan& s) {
    std::string name = file_safe(s.target) + "/" + s.sensor;
    const ColourMethod m = colour_method(session, session.exposures[s.lights.front().exposure]);
    if (s.mosaic && m != ColourMethod::adaptive && m != ColourMethod::bilinear) name += " binned";
    return name;
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

/// From the ledger, else from the header of a master light that is there, so that a new night does not move finished
/// master lights.
std::string remembered_reference(const Session& s, const ReferenceGroup& group) {
    std::set<std::string> here;
    for (const std::size_t i : group.stacks)
        for (const LightPlan& l : s.pairing.stacks[i].lights)
            here.insert(s.exposures[l.exposure].identity);
    if (s.ledger.choice("reference/" + group.name)) {
        const auto standing = standing_choice(s, "reference/" + group.name);
        return standing && here.count(*standing) ? *standing : "";
    }
    for (const std::size_t i : group.stacks) {
        std::error_code failed;
        const fs::path file = s.output / "lights" / (s.pairing.stacks[i].name + ".fits");
        if (!fs::exists(file, failed)) continue;
        Header header;
        if (attempt([&] { header = read_fits_summary(file).header; })) continue; // damaged: it is simply made again
        const auto text = header.text("REFPRINT");
        if (text && here.count(*text) && !header.find("UNREAD")) return *text;
    }
    return {};
}

} // namespace kasane
