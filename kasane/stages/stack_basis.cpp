#include <kasane/stages/stack_basis.hpp>

#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/drizzle_choice.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/group_canvas.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/results.hpp>

#include <kasane/integration/edge_feather.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

/// Of all parts; nothing until each has been judged.
std::optional<std::string> verdicts_of(const Session& s, const Calibrations& calibrations, const JointStack& stack,
                                       const std::string& reference) {
    std::string out;
    for (const std::size_t k : stack.parts) {
        const auto one = remembered_verdicts(s, calibrations, s.pairing.stacks[k], reference);
        if (!one) return std::nullopt;
        out += (out.empty() ? "" : " ") + *one;
    }
    return out;
}

/// Pixels of a light over which its edges fade.
double feather_of(const Session& s, const StackPlan& plan) {
    const IntegrationRecipe& recipe = s.recipe.integration;
    if (recipe.feather) return *recipe.feather;
    if (recipe.combination != Combination::mean && recipe.combination != Combination::sum) return 0;
    std::optional<double> least; // of the smallest
    for (const LightPlan& l : plan.lights) {
        const Exposure& e = s.exposures[l.exposure];
        const double own = default_feather(e.width, e.height);
        least = std::min(least.value_or(own), own);
    }
    return least.value_or(0);
}

} // namespace

LevelOptions level_options(const Session& s, const StackPlan& plan, int colour) {
    LevelOptions o;
    o.model = s.recipe.normalization.of(plan.filter, colour);
    o.sky = s.recipe.normalization.sky;
    return o;
}

IntegrateOptions integrate_options(const Session& s, const StackPlan& plan) {
    const IntegrationRecipe& recipe = s.recipe.integration;
    IntegrateOptions o;
    o.rejection = recipe.rejection_of(plan.filter);
    o.combination = recipe.combination;
    o.judge.growth.steps = recipe.grow;
    o.judge.star_cores = recipe.star_cores;
    o.mask_streaks = recipe.streaks;
    o.feather = feather_of(s, plan);
    const auto worth = recipe.weights.find(Measure::worth);
    o.worth_exponent = worth == recipe.weights.end() ? 0 : worth->second;
    return o;
}

std::string weights_text(const Session& s) {
    const std::map<Measure, double>& weights = s.recipe.integration.weights;
    if (weights.empty()) return "equal";
    if (weights.size() == 1 && weights.begin()->first == Measure::worth && weights.begin()->second == 1) return "worth";
    std::vector<std::string> parts;
    const auto part = [&](Measure m, double exponent) {
        parts.push_back(fmt::format("{} = {:g}", measure_info(m).name, exponent));
    };
    if (const auto worth = weights.find(Measure::worth); worth != weights.end()) part(worth->first, worth->second);
    for (const auto& [measure, exponent] : weights)
        if (measure != Measure::worth) part(measure, exponent);
    return fmt::format("{}", fmt::join(parts, ", "));
}

Basis stack_basis(const Session& s, const Calibrations& calibrations, const ReferenceGroup& group,
                  const JointStack& stack, const std::string& reference) {
    const StackPlan& plan = stack.plan;
    using Kind = Provenance::Input::Kind;
    Provenance planned;
    Provenance::Step& gather = planned.step("gather");
    gather.set("name", plan.name);
    Key measures("measures of a stack"), metadata("lights of a stack");
    std::vector<std::size_t> masters;
    for (const LightPlan& l : plan.lights) {
        const Exposure& e = s.exposures[l.exposure];
        gather.inputs.push_back({Kind::exposure, e.identity, e.path, {}});
        metadata.add(s.metadata_key(l.exposure));
        measures.add(measure_key(s, calibrations, l));
        for (const auto& m : {l.dark, l.bias, l.second_dark, l.flat})
            if (m && std::find(masters.begin(), masters.end(), *m) == masters.end()) masters.push_back(*m);
    }
    gather.set("exposures", metadata.result());
    Provenance::Step& calibrate = planned.step("calibrate");
    for (const std::size_t m : masters)
        calibrate.inputs.push_back(
            {Kind::master, s.masters[m] ? s.masters[m]->key : kNotMade, s.pairing.masters[m].name, {}});
    calibrate.set("pairing", measures.result());
    // Which exposures are kept, not by what limits: a limit that drops nobody changes nothing.
    planned.step("grade").set("verdicts", verdicts_of(s, calibrations, stack, reference).value_or("not judged yet"));
    planned.step("register").set("reference", reference);
    planned.step("register").set("optics", optics_identity(s, plan, reference));
    Key canvas("canvas of a group");
    add_canvas(canvas, s, calibrations, group, reference);
    planned.step("resample").set("canvas", canvas.result());
    Key options("options of a stack");
    options.add(integrate_options(s, plan), weights_text(s));
    for (const int colour : {-1, 0, 1, 2})
        if (plan.mosaic == (colour >= 0)) options.add(level_options(s, plan, colour));
    if (const auto drizzle = drizzle_wanted(s)) {
        options.add(drizzle->automatic, drizzle->own_drop, drizzle->own_restore, drizzle->options);
        if (drizzle->automatic || !drizzle->own_restore)
            add_lights(options, s, calibrations, group, reference); // they tell together
    }
    for (const CometMark& m : s.recipe.comet)
        options.add(m.file, m.x, m.y);
    if (!s.recipe.comet.empty()) add_lights(options, s, calibrations, group, reference); // they tell together
    planned.step("resample").set("options", options.result());
    return Basis("stack", std::move(planned));
}

std::vector<std::string> files_of(const CometReport& c) {
    if (c.file.empty()) return {};
    return {c.file, c.preview, c.both_file, c.both_preview};
}

std::optional<StackReport> finished_stack(const Session& s, const StackPlan& plan, const std::string& key) {
    const auto body = s.ledger.fact(key);
    if (!body) return std::nullopt;
    try {
        const auto json = nlohmann::json::parse(*body);
        auto report = json.at("report").get<StackReport>();
        report.reused = true;
        std::map<std::string, const Exposure*> now; // files may have moved since
        for (const LightPlan& l : plan.lights)
            now[s.exposures[l.exposure].identity] = &s.exposures[l.exposure];
        report.made.rename_inputs([&](const std::string& identity) {
            const auto it = now.find(identity);
            return it == now.end() ? std::string() : it->second->path;
        });
        for (FrameReport& f : report.frames)
            if (const auto it = now.find(f.identity); it != now.end()) {
                if (it->second->identity == report.reference_fingerprint) report.reference = it->second->path;
                f.path = it->second->path;
                f.night = it->second->night;
            }
        for (const FrameReport& f : report.frames)
            if (f.unread && s.can_be_read(f.path)) return std::nullopt;
        if (s.any_can_be_read(report.comet.unread)) return std::nullopt;
        if (report.file.empty()) return report;
        const std::vector<std::string> comet = files_of(report.comet);
        const auto current = s.ledger.choice("file/" + report.file);
        const bool good = current && *current == key && is_intact(s, light_file(s, plan)) &&
                          is_intact(s, s.output / report.preview) &&
                          is_intact(s, s.output / report.rejection_picture) &&
                          (report.sampling.picture.empty() || is_intact(s, s.output / report.sampling.picture)) &&
                          std::all_of(comet.begin(), comet.end(),
                                      [&](const std::string& file) { return is_intact(s, s.output / file); });
        return good ? std::optional(std::move(report)) : std::nullopt;
    } catch (const nlohmann::json::exception&) { // a record of another version: make it again
        return std::nullopt;
    }
}

Finding failure_finding(const StackReport& s) {
    if (!s.failure.empty())
        return {Level::blocker, "stack-failed", {}, fmt::format("{} was not made: {}", s.name, s.failure), ""};
    return {Level::blocker,
            "no-frames-left",
            {},
            fmt::format("no light of {} could be used; no master light was made", s.name),
            "See the reasons given for its frames"};
}

} // namespace kasane
