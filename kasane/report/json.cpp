#include <kasane/report/json.hpp>

#include <kasane/ledger/record_json.hpp>
#include <kasane/project/result.hpp>

namespace kasane {

using nlohmann::json;

namespace {
json optional_json(const std::optional<double>& v) {
    return v ? json(*v) : json(nullptr);
}
} // namespace

json to_json(const Exposure& e) {
    json sources = json::object();
    for (const auto& [field, source] : e.sources)
        sources[std::string(field_name(field))] = source.text();
    return {{"path", e.path},
            {"fingerprint", e.fingerprint},
            {"format", format_name(e.format)},
            {"linear", e.linear},
            {"role", role_name(e.role)},
            {"role_source", e.source(Field::role).text()},
            {"role_confidence", e.role_confidence},
            {"master", e.is_master},
            {"made_by_kasane", e.made_by_kasane},
            {"width", e.width},
            {"height", e.height},
            {"planes", e.planes},
            {"bits", e.bits},
            {"seconds", optional_json(e.seconds)},
            {"start", e.start},
            {"start_local", e.start_local},
            {"night", e.night},
            {"gain", optional_json(e.gain)},
            {"gain_is_iso", e.gain_is_iso},
            {"offset", optional_json(e.offset)},
            {"electrons_per_adu", optional_json(e.electrons_per_adu)},
            {"temperature", optional_json(e.temperature)},
            {"temperature_set", optional_json(e.temperature_set)},
            {"binning", {e.binning_x, e.binning_y}},
            {"filter", e.filter},
            {"cfa", e.cfa},
            {"saturation", optional_json(e.saturation)},
            {"black_level", optional_json(e.black_level)},
            {"camera", e.camera},
            {"telescope", e.telescope},
            {"target", e.target},
            {"focal_length_mm", optional_json(e.focal_length_mm)},
            {"pixel_um", optional_json(e.pixel_um)},
            {"right_ascension", optional_json(e.right_ascension)},
            {"declination", optional_json(e.declination)},
            {"latitude", optional_json(e.latitude)},
            {"longitude", optional_json(e.longitude)},
            {"orientation", e.orientation},
            {"pier_side", e.pier_side},
            {"rotator", optional_json(e.rotator)},
            {"turn", e.turn},
            {"sources", sources},
            {"problems", e.problems}};
}

json to_json(const Pairing& p, const std::vector<Exposure>& exposures) {
    const auto name = [&](const std::optional<std::size_t>& m) { return m ? json(p.masters[*m].name) : json(nullptr); };
    json masters = json::array(), stacks = json::array();
    for (const MasterPlan& m : p.masters) {
        json files = json::array();
        for (const std::size_t i : m.members)
            files.push_back(exposures[i].path);
        masters.push_back({{"name", m.name},
                           {"role", role_name(m.role)},
                           {"existing", m.existing},
                           {"temperature", optional_json(m.temperature)},
                           {"offset", name(m.offset)},
                           {"offset_level", optional_json(m.offset_level)},
                           {"offset_reason", m.offset_reason},
                           {"files", files}});
    }
    for (const StackPlan& s : p.stacks) {
        json lights = json::array(), groups = json::array();
        for (const LightPlan& l : s.lights)
            lights.push_back({{"path", exposures[l.exposure].path},
                              {"dark", name(l.dark)},
                              {"bias", name(l.bias)},
                              {"dark_scale", l.dark_scale},
                              {"offset_level", optional_json(l.offset_level)},
                              {"dark_reason", l.dark_reason},
                              {"flat", name(l.flat)},
                              {"flat_reason", l.flat_reason}});
        for (const LightsPairedAlike& g : s.groups) {
            json misses = json::array(), members = json::array();
            for (const NearMiss& m : g.near_misses)
                misses.push_back({{"master", p.masters[m.master].name}, {"reason", m.reason}, {"allowed", m.allowed}});
            for (const std::size_t l : g.lights)
                members.push_back(exposures[s.lights[l].exposure].path);
            groups.push_back({{"lights", members}, {"near_misses", misses}});
        }
        stacks.push_back({{"name", s.name},
                          {"target", s.target},
                          {"filter", s.filter},
                          {"sensor", s.sensor},
                          {"mosaic", s.mosaic},
                          {"lights", lights},
                          {"groups", groups}});
    }
    return {{"masters", masters}, {"stacks", stacks}};
}

json to_json(const Finding& f) {
    return {
        {"level", level_name(f.level)}, {"code", f.code}, {"files", f.files}, {"text", f.text}, {"remedy", f.remedy}};
}

json growth_json(const StackReport& s) {
    const StackGrowth g = growth_of(s);
    json nights = json::array();
    for (const NightGain& n : g.nights)
        nights.push_back({{"night", n.night},
                          {"lights", n.lights},
                          {"seconds", n.seconds},
                          {"effective", n.effective},
                          {"seconds_until", n.seconds_until},
                          {"noise", n.noise}});
    return {{"nights", nights},
            {"worth", g.worth},
            {"best_night", g.best_night},
            {"usual_night", g.usual_night},
            {"two_hours", g.two_hours}};
}

json to_json(const RunReport& r) {
    json findings = json::array();
    for (const Finding& f : r.findings)
        findings.push_back(to_json(f));
    json stacks = r.stacks;
    for (std::size_t k = 0; k < r.stacks.size(); ++k) {
        stacks[k]["growth"] = growth_json(r.stacks[k]);
        const StackReport& s = r.stacks[k];
        stacks[k]["limiting_flux"] = limiting_flux(s.area_noise, s.fwhm);
        stacks[k]["limiting_magnitude"] = limiting_magnitude(s.area_noise, s.fwhm, s.zero_point);
    }
    return {{"folder", r.folder},       {"output", r.output},   {"masters", r.masters}, {"stacks", stacks},
            {"together", r.composites}, {"findings", findings}, {"time", r.time}};
}

nlohmann::json to_json(const CheckReport& r) {
    nlohmann::json findings = nlohmann::json::array(), exposures = nlohmann::json::array();
    for (const Finding& f : r.findings)
        findings.push_back(to_json(f));
    for (const Exposure& e : r.scan.exposures)
        exposures.push_back(to_json(e));
    nlohmann::json out = to_json(r.pairing, r.scan.exposures);
    out["folder"] = r.folder;
    out["output"] = r.output;
    out["exposures"] = exposures;
    out["findings"] = findings;
    out["cost"] = {{"masters", r.cost.masters},
                   {"lights", r.cost.lights},
                   {"stacks", r.cost.stacks},
                   {"composites", r.cost.composites},
                   {"seconds", r.cost.seconds},
                   {"measured", r.cost.measured},
                   {"result_bytes", r.cost.result_bytes},
                   {"cache_bytes", r.cost.cache_bytes},
                   {"free_bytes", r.cost.free_bytes},
                   {"memory_bytes", r.cost.memory_bytes},
                   {"budget_bytes", r.cost.budget_bytes}};
    return out;
}

nlohmann::json to_json(const StatusReport& r) {
    nlohmann::json results = nlohmann::json::array();
    for (const ResultStatus& s : r.results)
        results.push_back({{"name", s.name},
                           {"kind", s.kind},
                           {"file", s.file},
                           {"state", state_name(s.state)},
                           {"reasons", s.reasons},
                           {"frames", s.frames},
                           {"time", s.time}});
    nlohmann::json holdings = nlohmann::json::array();
    for (const Holding& h : r.holdings)
        holdings.push_back({{"name", h.name}, {"what", h.what}, {"bytes", h.bytes}, {"files", h.files}});
    return {{"folder", r.folder},       {"output", r.output},           {"results", results},
            {"leftovers", r.leftovers}, {"cache_bytes", r.cache_bytes}, {"cache_limit", r.cache_limit},
            {"exposures", r.exposures}, {"holdings", holdings}};
}

nlohmann::json to_json(const ForgetReport& r) {
    nlohmann::json files = nlohmann::json::array();
    for (const ForgetReport::File& f : r.files)
        files.push_back({{"kind", f.kind}, {"path", f.path}, {"bytes", f.bytes}, {"problem", f.problem}});
    return {{"folder", r.folder}, {"files", files}, {"removed", r.removed}, {"bytes", r.bytes()}};
}

} // namespace kasane
