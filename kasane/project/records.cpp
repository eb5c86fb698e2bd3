#include <kasane/project/records.hpp>

#include <algorithm>

namespace kasane {

using nlohmann::json;

namespace {
json optional_json(const std::optional<double>& v) {
    return v ? json(*v) : json(nullptr);
}
std::optional<double> optional_number(const json& j, const char* key) {
    const auto it = j.find(key);
    return it != j.end() && it->is_number() ? std::optional(it->get<double>()) : std::nullopt;
}
} // namespace

std::string json_text(const json& j, int indent) {
    return j.dump(indent, ' ', false, json::error_handler_t::replace);
}

bool RunReport::clean() const {
    const bool findings_clean =
        std::all_of(findings.begin(), findings.end(), [](const Finding& f) { return f.level == Level::note; });
    return findings_clean &&
           std::all_of(stacks.begin(), stacks.end(), [](const StackReport& s) { return s.dropped == 0; });
}

json to_json(const Exposure& e) {
    return {{"path", e.path},
            {"fingerprint", e.fingerprint},
            {"role", role_name(e.role)},
            {"role_source", e.role_source},
            {"master", e.is_master},
            {"made_by_kasane", e.made_by_kasane},
            {"width", e.width},
            {"height", e.height},
            {"planes", e.planes},
            {"bits", e.bits},
            {"seconds", optional_json(e.seconds)},
            {"start", e.start},
            {"night", e.night},
            {"gain", optional_json(e.gain)},
            {"offset", optional_json(e.offset)},
            {"electrons_per_adu", optional_json(e.electrons_per_adu)},
            {"temperature", optional_json(e.temperature)},
            {"temperature_set", optional_json(e.temperature_set)},
            {"binning", {e.binning_x, e.binning_y}},
            {"filter", e.filter},
            {"cfa", e.cfa},
            {"camera", e.camera},
            {"telescope", e.telescope},
            {"target", e.target},
            {"focal_length_mm", optional_json(e.focal_length_mm)},
            {"pixel_um", optional_json(e.pixel_um)},
            {"longitude", optional_json(e.longitude)}};
}

Exposure exposure_from_json(const json& j) {
    Exposure e;
    e.path = j.at("path");
    e.fingerprint = j.at("fingerprint");
    const std::string role = j.at("role");
    for (const Role r : {Role::light, Role::dark, Role::flat, Role::bias, Role::dark_flat})
        if (role == role_name(r)) e.role = r;
    e.role_source = j.at("role_source");
    e.is_master = j.at("master");
    e.made_by_kasane = j.at("made_by_kasane");
    e.width = j.at("width");
    e.height = j.at("height");
    e.planes = j.at("planes");
    e.bits = j.at("bits");
    e.seconds = optional_number(j, "seconds");
    e.start = j.at("start");
    e.night = j.at("night");
    e.gain = optional_number(j, "gain");
    e.offset = optional_number(j, "offset");
    e.electrons_per_adu = optional_number(j, "electrons_per_adu");
    e.temperature = optional_number(j, "temperature");
    e.temperature_set = optional_number(j, "temperature_set");
    e.binning_x = j.at("binning").at(0);
    e.binning_y = j.at("binning").at(1);
    e.filter = j.at("filter");
    e.cfa = j.at("cfa");
    e.camera = j.at("camera");
    e.telescope = j.at("telescope");
    e.target = j.at("target");
    e.focal_length_mm = optional_number(j, "focal_length_mm");
    e.pixel_um = optional_number(j, "pixel_um");
    e.longitude = optional_number(j, "longitude");
    return e;
}

json to_json(const Finding& f) {
    return {
        {"level", level_name(f.level)}, {"code", f.code}, {"files", f.files}, {"text", f.text}, {"remedy", f.remedy}};
}

json to_json(const RunReport& r) {
    json findings = json::array();
    for (const Finding& f : r.findings)
        findings.push_back(to_json(f));
    return {{"folder", r.folder}, {"output", r.output},   {"masters", r.masters},
            {"stacks", r.stacks}, {"findings", findings}, {"time", r.time}};
}

} // namespace kasane
