#include <kasane/stages/masks.hpp>
#include <kasane/stages/pair.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/stages/cameras.hpp>

#include <fmt/format.h>
#include <map>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// Names by identity: from the ledger, else from master lights that are there.
std::map<std::string, std::string> given_names(const Session& s) {
    std::map<std::string, std::string> names;
    const std::string prefix = "name/";
    for (const auto& [key, name] : s.ledger.choices(prefix))
        names[key.substr(prefix.size())] = name;
    if (!names.empty()) return names;
    std::error_code failed;
    for (fs::directory_iterator it(s.output / "lights", failed), end; !failed && it != end; it.increment(failed)) {
        if (it->path().extension() != ".fits" || !is_own_work(it->path())) continue;
        (void)attempt([&] { // a damaged result is simply made again
            if (const auto identity = read_fits_summary(it->path()).header.text("STACKID"))
                names[*identity] = it->path().stem().string();
        });
    }
    return names;
}

void pair_frames_of(Session& s) {
    PairingOptions options = s.recipe.pairing;
    options.names = given_names(s);
    options.apart = panels_apart(s);
    s.pairing = pair_frames(s.exposures, options);
    for (const std::string& hint : s.recipe.hints)
        s.pairing.findings.push_back({Level::note, "recipe-key-renamed", {"kasane.toml"}, hint, ""});
}

constexpr const char* kPanelApart = "panel apart/";

void require_part_inside(const Session& s) {
    const Region& part = s.recipe.grading.part;
    if (part.empty()) return;
    for (const StackPlan& plan : s.pairing.stacks) {
        const Exposure& e = s.exposures[plan.lights.front().exposure];
        if (intersect(part, {0, 0, e.width, e.height}).empty())
            throw UsageError(
                fmt::format("the part to be measured (from {}, {} on) lies outside the lights of {}, which "
                            "are {} x {} pixels",
                            part.x, part.y, plan.name, e.width, e.height),
                recipe_file(s.options.folder), "Mend part in [grading], or --part");
    }
}

} // namespace

void pair_session(Session& s, const Scan& scan) {
    s.stamps = scan.stamps;
    s.unread.insert(scan.unreadable.begin(), scan.unreadable.end());
    pair_frames_of(s);
    s.masters.assign(s.pairing.masters.size(), std::nullopt);
    require_part_inside(s);
    settle_masks(s);
    recall_cameras(s);
}

void pair_again(Session& s) {
    pair_frames_of(s);
    remember_names(s);
}

void set_panel_apart(Session& s, const std::string& target, const std::string& part) {
    s.ledger.set_choice(kPanelApart + target, part);
}

std::map<std::string, std::string> panels_apart(const Session& s) {
    std::map<std::string, std::string> out;
    const std::string prefix = kPanelApart;
    for (const auto& [key, part] : s.ledger.choices(prefix))
        if (!part.empty()) out[key.substr(prefix.size())] = part;
    return out;
}

void remember_names(Session& s) {
    s.ledger.together([&] {
        for (const StackPlan& plan : s.pairing.stacks)
            s.ledger.set_choice("name/" + plan.identity, plan.name);
        for (const MasterPlan& plan : s.pairing.masters)
            if (!plan.existing) s.ledger.set_choice("name/" + plan.identity, plan.name);
    });
}

} // namespace kasane
